// SPDX-License-Identifier: MIT
#pragma once
// What a take lacks at the top against another one. Internal to `measure`.

#include <optional>

#include "wavicon/measure/takes/takes.hpp"

namespace wavicon::measure_detail {

/// From where up a take holds nothing but the noise of its gap: two bands side by side, above 800 Hz, that do
/// not stand out of it.
[[nodiscard]] std::optional<double> noise_from(const RecordedTake& take);

/// Of bands that stand out of the noise in both (power 1 dB over it, and over three deviations), that noise
/// taken off: D in dB, with the weight 1/(s² + the noise's), s = 0.7 dB of the same words, 2 dB where they
/// scatter more. The model c less 1 + (f/corner)^2n in dB has to explain D plainly better than a constant.
///
/// @param above_hz  from where on the loss is told; none: from the corner on.
/// @return none for fewer than six bands, and when nothing is missing.
[[nodiscard]] std::optional<TakeLoss> loss_against(const RecordedTake& first, const RecordedTake& take,
                                                   double sample_rate_hz, std::optional<double> above_hz);

}  // namespace wavicon::measure_detail
