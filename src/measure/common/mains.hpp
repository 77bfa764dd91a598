// SPDX-License-Identifier: MIT
#pragma once
// Mains hum: the comb near 50 or 60 Hz in a long, low-passed signal. Internal to `measure`.

#include <optional>
#include <span>
#include <vector>

#include "wavicon/measure/noise/noise.hpp"

namespace wavicon::measure_detail {

/// What a comb reads.
struct MainsComb {
  double uncertainty_hz = 0;  ///< of base_hz, k = 2, from what lies beside the lines
  double base_hz = 0;
  std::vector<MainsLine> lines;  ///< those that stand out
  double bound = 0;  ///< amplitude under which a line would not have been seen, of the first three
};

/// Looks for the base within 0.2 Hz of 50 and of 60 Hz whose first ten lines hold the most power.
///
/// @param samples  at a low rate, at least a second.
[[nodiscard]] MainsComb find_mains(std::span<const double> samples, double rate_hz);

}  // namespace wavicon::measure_detail
