// SPDX-License-Identifier: MIT
#pragma once
// Where in a channel a tone stands steady, and its frequency to a fraction of a hertz. Internal to `measure`.

#include <cstdint>
#include <optional>
#include <span>

#include "measure/common/spectral_tools.hpp"

namespace wavicon::measure_detail {

struct SteadyTone {
  std::int64_t first_frame = 0;
  std::int64_t frames = 0;
  double rough_hz = 0;
};

/// The longest stretch over which the strongest tone (or the one near `wanted_hz`) keeps its level within
/// half a dB or, in noise, within what the noise does to it; of stretches more than 6 dB below the highest
/// none is taken. None for silence.
[[nodiscard]] std::optional<SteadyTone> find_steady_tone(std::span<const double> samples,
                                                         double sample_rate_hz,
                                                         std::optional<double> wanted_hz,
                                                         SpectralTools& tools);

}  // namespace wavicon::measure_detail
