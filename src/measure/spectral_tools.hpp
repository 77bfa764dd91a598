#pragma once
// What one measurement computes once and uses for every channel, window and floor. Internal to `measure`.

#include <vector>

#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {

struct SpectralTools {
  KaiserWindows windows;
  RealTransforms transforms;
  std::vector<double> weighted;  ///< one window's samples under its weights
};

}  // namespace wavicon::measure_detail
