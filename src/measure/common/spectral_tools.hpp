// SPDX-License-Identifier: MIT
#pragma once
// What one measurement computes once and uses for every channel, window and floor. Internal to `measure`.

#include <algorithm>
#include <cmath>
#include <numbers>
#include <vector>

#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {

/// Where between the neighbours of the highest of three powers a line's crest lies, -0.5 … 0.5 bins: a
/// parabola through their logarithms.
[[nodiscard]] inline double crest_shift(double power_below, double power_at, double power_above) {
  constexpr double kTiny = 1e-300;  // keeps the logarithm of an empty bin finite
  const double below = std::log(power_below + kTiny), at = std::log(power_at + kTiny),
               above = std::log(power_above + kTiny);
  const double curvature = below - 2 * at + above;
  return curvature < 0 ? std::clamp(0.5 * (below - above) / curvature, -0.5, 0.5) : 0.0;
}

/// Phase of an order as A·sin(order·ωt + phase), in degrees, -180 … 180, time from a rising zero crossing of
/// the fundamental.
/// @param beyond  angle of the order's cosine in radians, less order × that of the fundamental's.
[[nodiscard]] inline double sine_phase_deg(double beyond, int order) {
  return std::remainder(beyond * 180 / std::numbers::pi + 90.0 * (1 - order % 4), 360.0);
}

struct SpectralTools {
  KaiserWindows windows;
  RealTransforms transforms;
  std::vector<double> weighted;  ///< one window's samples under its weights
};

}  // namespace wavicon::measure_detail
