// SPDX-License-Identifier: MIT
#pragma once
// Level of a tone of known frequency in a short stretch, and of its orders. Internal to `measure`.

#include <optional>
#include <span>
#include <vector>

namespace wavicon::measure_detail {

struct ToneLevel {
  double phase = 0;            ///< of its cosine at the first sample, radians
  double amplitude = 0;        ///< peak value in the middle of the stretch
  std::vector<double> orders;  ///< amplitudes of orders 1 … 10, as far as they lie below half the rate
  double residual = 0;         ///< RMS of what no order explains

  /// Root of the sum of squares of orders from 2 on, over the first; none when nothing stands out of the
  /// rest.
  [[nodiscard]] std::optional<double> thd_ratio(std::size_t frames) const;
  /// Of the amplitude, and of each order's: half the interval of 95 of 100 cases, from the rest.
  [[nodiscard]] double uncertainty(std::size_t frames) const;
};

/// Weighted least squares over DC and all orders, each with an amplitude that may change linearly.
///
/// @param samples  some periods of it. @param step  radians per sample.
[[nodiscard]] ToneLevel tone_level(std::span<const double> samples, double step);

}  // namespace wavicon::measure_detail
