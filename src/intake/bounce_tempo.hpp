// SPDX-License-Identifier: MIT
#pragma once
// Whether a recording program stretched a bounce in time, its pitch kept. Internal to `intake`.

#include <optional>

#include "wavicon/audio/source.hpp"
#include "wavicon/intake/locate.hpp"

namespace wavicon::intake_detail {

/// Length of the bounce over that of the stimulus; none when what lies between the marks does not move apart
/// little by little, but at one place (frames lost or repeated), or when it cannot be followed (tones).
///
/// @param take  with both marks, whose distance is off.
[[nodiscard]] std::optional<double> tempo_ratio_of(AudioSource& bounce, Stimulus& stimulus, const Take& take);

}  // namespace wavicon::intake_detail
