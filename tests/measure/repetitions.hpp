// SPDX-License-Identifier: MIT
#pragma once
// Uncertainties by repetition: of many captures whose truth is known, 93 to 98 of 100 readings lie within
// theirs.

#include <gtest/gtest.h>

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <map>
#include <optional>
#include <string>
#include <utility>

#include "wavicon/sheet/sheet.hpp"

namespace wavicon::testing {

constexpr int kSeeds = 300;

/// How many repetitions a test makes: as many as it usually does, or kSeeds where the environment asks for
/// the table of coverage (WAVICON_COVERAGE=1, one line for each reading).
inline int repetitions(int usual) { return std::getenv("WAVICON_COVERAGE") != nullptr ? kSeeds : usual; }
inline void tell_coverage(const std::string& what, const std::string& name, int within, int count) {
  if (std::getenv("WAVICON_COVERAGE") != nullptr)
    std::printf("| %s | %s | %d of %d |\n", what.c_str(), name.c_str(), within, count);
}

/// What readings of channel 1 should be, by name; counts how many lie within their uncertainty.
class Repetitions {
 public:
  /// @param channel  of the readings; none: those of the whole.
  explicit Repetitions(std::map<std::string, double> truths, std::optional<int> channel = 0)
      : truths_(std::move(truths)), channel_(channel) {}

  void add(const Sheet& sheet) {
    ++count_;
    for (const auto& [name, truth] : truths_) {
      const Reading* reading = find_reading(sheet, name, channel_);
      ASSERT_TRUE(reading != nullptr && reading->value) << name;
      ASSERT_TRUE(reading->uncertainty) << name;
      within_[name] += std::abs(*reading->value - truth) <= *reading->uncertainty;
      sums_[name] += *reading->value - truth;
      squares_[name] += (*reading->value - truth) * (*reading->value - truth);
      sizes_[name] += *reading->uncertainty;
    }
  }
  void expect_honest(const std::string& what) {
    // Three standard deviations around 93 and 98 of 100.
    const double fewest = 0.93 * count_ - 3 * std::sqrt(0.93 * 0.07 * count_),
                 most = 0.98 * count_ + 3 * std::sqrt(0.98 * 0.02 * count_);
    for (const auto& [name, truth] : truths_) {
      const std::string which = what + " " + name + ": mean error " + std::to_string(sums_[name] / count_) +
                                ", its root mean square " +
                                std::to_string(std::sqrt(squares_[name] / count_)) + ", mean uncertainty " +
                                std::to_string(sizes_[name] / count_);
      tell_coverage(which, name, within_[name], count_);
      EXPECT_GE(within_[name], fewest) << which;
      EXPECT_LE(within_[name], most) << which;
    }
  }

 private:
  std::map<std::string, double> truths_;
  std::optional<int> channel_;
  std::map<std::string, int> within_;
  std::map<std::string, double> sums_, squares_, sizes_;
  int count_ = 0;
};

}  // namespace wavicon::testing
