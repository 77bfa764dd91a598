// SPDX-License-Identifier: MIT
#pragma once
// What is left of a capture beside a tone, and what converters do to tones. Internal to `measure`.

#include <span>
#include <vector>

#include "measure/common/tone_level.hpp"
#include "wavicon/measure/waveforms/waveforms.hpp"

namespace wavicon::measure_detail {

/// The strongest line beside the tone and what belongs to it, and of which converter's rate it is the image.
void find_foreign(const std::vector<double>& y, double hz, double rate, ToneWaveform& out);

/// Whether what neither the tone nor its orders explain repeats with it: the differences of neighbours by
/// phase against the whole power, 1 - mean(Δ²)/2σ². Quantisation steps are told from other things that repeat
/// by the samples themselves: |mean e^{2πi·value/step}| is high at their size alone.
///
/// @param tone  fitted to y. @param turn  radians per sample.
void find_repeating(std::span<const double> y, const ToneLevel& tone, double turn, ToneWaveform& out);

}  // namespace wavicon::measure_detail
