// SPDX-License-Identifier: MIT
#pragma once
// Matchers for GoogleTest (gmock): EXPECT_THAT(processor, FoldsBackBelow(-90_dBc)).

#include <gmock/gmock.h>

#include <functional>
#include <ostream>
#include <sstream>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/testing/checks.hpp"

namespace wavicon::matchers {

struct Decibels {
  double value = 0;
  constexpr Decibels operator-() const { return {-value}; }
};
inline namespace literals {
constexpr Decibels operator""_dBc(long double value) { return {static_cast<double>(value)}; }
constexpr Decibels operator""_dBc(unsigned long long value) { return {static_cast<double>(value)}; }
constexpr Decibels operator""_dB(long double value) { return {static_cast<double>(value)}; }
constexpr Decibels operator""_dB(unsigned long long value) { return {static_cast<double>(value)}; }
}  // namespace literals

inline std::string number_text(double value) {
  std::ostringstream text;
  text << value;
  return text.str();
}

/// A check as a matcher of anything that is a Processor.
class CheckMatcher {
 public:
  CheckMatcher(std::string asked, std::function<CheckOutcome(const Processor&)> check)
      : asked_(std::move(asked)), check_(std::move(check)) {}
  template <typename T>
  bool MatchAndExplain(const T& value, ::testing::MatchResultListener* listener) const {
    const CheckOutcome outcome = check_(Processor(value));
    *listener << outcome.text;
    return outcome.kept;
  }
  void DescribeTo(std::ostream* out) const { *out << asked_; }
  void DescribeNegationTo(std::ostream* out) const { *out << "not: " << asked_; }

 private:
  std::string asked_;
  std::function<CheckOutcome(const Processor&)> check_;
};
using ProcessorMatcher = ::testing::PolymorphicMatcher<CheckMatcher>;
inline ProcessorMatcher matcher(std::string asked, std::function<CheckOutcome(const Processor&)> check) {
  return ::testing::MakePolymorphicMatcher(CheckMatcher(std::move(asked), std::move(check)));
}

inline ProcessorMatcher FoldsBackBelow(Decibels limit, CheckOptions options = {}) {
  return matcher("folds back below " + number_text(limit.value) + " dBc",
                 [=](const Processor& p) { return folds_back_below(p, limit.value, options); });
}
inline ProcessorMatcher HasLatency(double samples, double within = 0.01) {
  return matcher("comes " + number_text(samples) + " samples later",
                 [=](const Processor& p) { return has_latency(p, samples, within); });
}
struct BelowDb {
  explicit BelowDb(double limit) : value(limit) {}
  double value;
};
inline ProcessorMatcher NullsWith(Processor other, BelowDb below) {
  return matcher("nulls with " + other.name() + " below " + number_text(below.value) + " dB",
                 [=](const Processor& p) { return nulls_with(p, other, below.value); });
}
inline ProcessorMatcher SameWhateverTheBlockSize() {
  return matcher("gives the same samples in blocks of any size",
                 [](const Processor& p) { return same_whatever_the_block_size(p); });
}
inline ProcessorMatcher SameEveryTime() {
  return matcher("gives the same samples every time", [](const Processor& p) { return same_every_time(p); });
}
inline ProcessorMatcher KeepsSilence() {
  return matcher("keeps silence", [](const Processor& p) { return keeps_silence(p); });
}
struct Within {
  explicit Within(double range_db) : value(range_db) {}
  double value;
};
inline ProcessorMatcher HasResponse(std::vector<std::pair<double, double>> curve, Within within) {
  return matcher("has that response within " + number_text(within.value) + " dB",
                 [=](const Processor& p) { return has_response(p, curve, within.value); });
}
struct AtMost {
  explicit AtMost(double limit) : value(limit) {}
  double value;
};
struct AtLeast {
  explicit AtLeast(double limit) : value(limit) {}
  double value;
};
inline ProcessorMatcher HasReading(const std::string& name, AtMost limit, CheckOptions options = {}) {
  const std::string text = name + "<=" + number_text(limit.value);
  return matcher(text, [=](const Processor& p) { return keeps_limit(p, text, options); });
}
inline ProcessorMatcher HasReading(const std::string& name, AtLeast limit, CheckOptions options = {}) {
  const std::string text = name + ">=" + number_text(limit.value);
  return matcher(text, [=](const Processor& p) { return keeps_limit(p, text, options); });
}

}  // namespace wavicon::matchers
