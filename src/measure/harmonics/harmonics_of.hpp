// SPDX-License-Identifier: MIT
#pragma once
// Harmonics of samples that a measurement already holds. Internal to `measure`.

#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/measure/harmonics/tone_groups.hpp"

namespace wavicon::measure_detail {

/// As measure_harmonics(), of a piece of a capture that has been judged.
///
/// @param audio_starts_s  where the piece begins in its capture: added to what is said.
[[nodiscard]] HarmonicsResult harmonics_of(const Audio& audio, const HarmonicsOptions& options,
                                           SampleFormat format, double audio_starts_s);
/// As measure_tone_group(), likewise.
[[nodiscard]] ToneGroupResult tone_group_of(const Audio& audio, const ToneGroupOptions& options,
                                            SampleFormat format, double audio_starts_s);

}  // namespace wavicon::measure_detail
