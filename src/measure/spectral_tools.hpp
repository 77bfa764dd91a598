#pragma once
// What one measurement computes once and uses for every channel, window and floor. Internal to `measure`.

#include <algorithm>
#include <cmath>
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

struct SpectralTools {
  KaiserWindows windows;
  RealTransforms transforms;
  std::vector<double> weighted;  ///< one window's samples under its weights
};

}  // namespace wavicon::measure_detail
