// SPDX-License-Identifier: MIT
#pragma once
// What came of many cases: how many, how many missed what they must reach, and the worst.

#include <fmt/format.h>

#include <cmath>
#include <cstdio>
#include <string>
#include <vector>

namespace wavicon::trials {

class Row {
 public:
  Row(std::string what, double limit, std::string unit)
      : what_(std::move(what)), limit_(limit), unit_(std::move(unit)) {}

  /// An error of one case, of either sign.
  void add(double error, const std::string& which) {
    ++cases_;
    error = std::abs(error);
    // Not a number is a miss as well.
    if (!(error <= limit_)) miss(fmt::format("{}: {:.3g} {}", which, error, unit_));
    if (!(error <= worst_)) {
      worst_ = error;
      worst_case_ = which;
    }
  }
  void add_refused(const std::string& which) {
    ++cases_;
    ++refused_;
    if (told_++ < kMostTold) std::fprintf(stderr, "  refused: %s\n", which.c_str());
  }
  /// Something that may not be, or has to be.
  void expect(bool kept, const std::string& which) {
    ++cases_;
    if (!kept) miss(which);
  }

  void print() const {
    fmt::print("| {} | {} | {} | {} | {} | {} |\n", what_, cases_, misses_, refused_,
               unit_.empty() ? "" : fmt::format("{:.3g} {}", worst_, unit_), worst_case_);
    std::fflush(stdout);
  }
  static void print_head() {
    fmt::print("| case | cases | misses | refused | worst | where |\n|---|---|---|---|---|---|\n");
  }
  [[nodiscard]] int misses() const { return misses_; }

 private:
  static constexpr int kMostTold = 12;

  void miss(const std::string& which) {
    ++misses_;
    if (told_++ < kMostTold) std::fprintf(stderr, "  missed: %s\n", which.c_str());
  }

  std::string what_;
  double limit_;
  std::string unit_;
  int cases_ = 0, misses_ = 0, refused_ = 0, told_ = 0;
  double worst_ = 0;
  std::string worst_case_;
};

}  // namespace wavicon::trials
