// SPDX-License-Identifier: MIT
#pragma once
// An averaged density and the lines in it. Internal to `measure`.

#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

#include "measure/common/spectral_tools.hpp"
#include "measure/common/welch.hpp"

namespace wavicon::measure_detail {

[[nodiscard]] inline double unweighted(double) { return 1; }

// A density with lines cut out of it; for one thread at a time.
class Density {
 public:
  Density(std::vector<double> values, const WelchPlan& plan) : values_(std::move(values)), plan_(plan) {}
  [[nodiscard]] const std::vector<double>& values() const { return values_; }
  [[nodiscard]] double bin_hz() const { return plan_.bin_hz(); }

  // Middle value of what lies one to three lobes away on both sides.
  [[nodiscard]] double around(double hz) const {
    const double half = plan_.lobe_half_bins(), centre = hz / bin_hz();
    beside_.clear();
    for (double away = kNearestAway * half; away < kFarthestAway * half; ++away)
      for (const double place : {centre - away, centre + away})
        if (place > half && place < static_cast<double>(values_.size()))
          beside_.push_back(values_[static_cast<std::size_t>(place)]);
    if (beside_.empty()) return 0;
    const auto middle = beside_.begin() + static_cast<std::ptrdiff_t>(beside_.size() / 2);
    std::nth_element(beside_.begin(), middle, beside_.end());
    return *middle;
  }
  /// Bins above a frequency that what is done at it looks at, and one more.
  [[nodiscard]] static std::size_t bins_beyond(const WelchPlan& plan) {
    return static_cast<std::size_t>(kFarthestAway * plan.lobe_half_bins()) + 2;
  }

  // Highest bin near a frequency.
  [[nodiscard]] std::size_t crest(double hz, double reach_hz) const {
    const auto clamp = [&](double bin) {
      return static_cast<std::size_t>(std::clamp(bin, 1.0, static_cast<double>(values_.size()) - 2));
    };
    const auto first = clamp(std::floor((hz - reach_hz) / bin_hz())),
               last = clamp(std::ceil((hz + reach_hz) / bin_hz()));
    return static_cast<std::size_t>(
        std::max_element(values_.begin() + static_cast<std::ptrdiff_t>(first),
                         values_.begin() + static_cast<std::ptrdiff_t>(last) + 1) -
        values_.begin());
  }
  [[nodiscard]] double exact_hz(std::size_t bin) const {
    return (static_cast<double>(bin) + crest_shift(values_[bin - 1], values_[bin], values_[bin + 1])) *
           bin_hz();
  }

  // Mean square of a line, what lies around it taken off.
  [[nodiscard]] double line_power(double hz) const {
    const double half = plan_.lobe_half_bins() * bin_hz();
    const double beside = around(hz);
    return std::max(0.0, band_power(values_, bin_hz(), std::max(0.0, hz - half), hz + half, unweighted) -
                             2 * half * beside);
  }

  // Fills a lobe with what lies around it.
  void cut(double hz) {
    const double level = around(hz), half = plan_.lobe_half_bins() + 1.5, centre = hz / bin_hz();
    for (double place = std::max(0.0, std::ceil(centre - half));
         place <= centre + half && place < static_cast<double>(values_.size()); ++place)
      values_[static_cast<std::size_t>(place)] = level;
  }

 private:
  static constexpr double kNearestAway = 1.3, kFarthestAway = 4;  // half lobes

  std::vector<double> values_;
  WelchPlan plan_;
  mutable std::vector<double> beside_;  // kept for its memory
};

}  // namespace wavicon::measure_detail
