// SPDX-License-Identifier: MIT
#pragma once
// By how much a power that was averaged over a stretch may be off because the stretch is no longer. Internal
// to `measure`.

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <span>
#include <vector>

#include "measure/common/welch.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::measure_detail {

/// The chance in powers read from a mean density: that of noise, and that of noise beside lines.
class PowerSpread {
 public:
  /// @param frames  of the stretch over which the windows ran. @param window  the plan's.
  PowerSpread(const WelchPlan& plan, std::int64_t frames, std::span<const double> window);

  /// Seconds of the stretch that count, (Σv)²/Σv² with v the sum of the windows' squares: the ends count
  /// less.
  [[nodiscard]] double seconds() const { return seconds_; }

  /// Of the sum of weight·density from one frequency to another: half the interval that holds the truth in 95
  /// of 100 stretches, in dB. The variance is (∫(w·n)²/(1 + 1/averages) + 2∫w²·(d - n)·n)/seconds, with d the
  /// density, n that of the noise in it and d - n that of its lines (Welch 1967, to verify; by
  /// repetition in uncertainty_test.cpp).
  /// @param noise  the density with its lines cut out.
  template <typename Weight>
  [[nodiscard]] double uncertainty_db(const std::vector<double>& density, const std::vector<double>& noise,
                                      double bin_hz, double from_hz, double to_hz, Weight&& weight) const {
    std::vector<double> own(density.size()), beside(density.size());
    for (std::size_t b = 0; b < density.size(); ++b) {
      own[b] = noise[b] * noise[b];
      beside[b] = std::max(0.0, density[b] - noise[b]) * noise[b];
    }
    const auto squared = [&](double hz) { return weight(hz) * weight(hz); };
    const double power = band_power(density, bin_hz, from_hz, to_hz, weight),
                 variance = band_power(own, bin_hz, from_hz, to_hz, squared) / (1 + 1 / averages_) +
                            2 * band_power(beside, bin_hz, from_hz, to_hz, squared);
    return power > 0 ? 2 * kDbOfPowerShare * std::sqrt(variance / seconds_) / power : 0;
  }

  /// The same of a line's amplitude beside noise of a density.
  [[nodiscard]] double line_uncertainty_db(double amplitude, double density_around) const {
    return amplitude > 0 ? 4 * kDbOfPowerShare * std::sqrt(density_around / seconds_) / amplitude : 0;
  }

 private:
  double seconds_ = 1;
  double averages_ = 1;  // independent values in a bin of the mean density
};

/// A density whose lines, ten times and more over the middle value of the block of bins that they lie in, are
/// replaced by that value. @param block  bins, several lobes of a line.
[[nodiscard]] std::vector<double> without_lines(std::vector<double> density, std::size_t block);

}  // namespace wavicon::measure_detail
