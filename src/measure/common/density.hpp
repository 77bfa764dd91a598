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

// A density with lines cut out of it.
class Density {
 public:
  Density(std::vector<double> values, const WelchPlan& plan) : values_(std::move(values)), plan_(plan) {}
  [[nodiscard]] const std::vector<double>& values() const { return values_; }
  [[nodiscard]] double bin_hz() const { return plan_.bin_hz(); }

  // Middle value of what lies one to three lobes away on both sides.
  [[nodiscard]] double around(double hz) const {
    std::vector<double> beside;
    const double half = plan_.lobe_half_bins(), centre = hz / bin_hz();
    for (double away = 1.3 * half; away < 4 * half; ++away)
      for (const double place : {centre - away, centre + away})
        if (place > half && place < static_cast<double>(values_.size()))
          beside.push_back(values_[static_cast<std::size_t>(place)]);
    if (beside.empty()) return 0;
    const auto middle = beside.begin() + static_cast<std::ptrdiff_t>(beside.size() / 2);
    std::nth_element(beside.begin(), middle, beside.end());
    return *middle;
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
  std::vector<double> values_;
  WelchPlan plan_;
};

}  // namespace wavicon::measure_detail
