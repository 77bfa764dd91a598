// SPDX-License-Identifier: MIT
#pragma once
// A steady tone between silences, rendered from any frame on, in blocks of any size.

#include <cstdint>
#include <span>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// What to render; every channel gets the same.
struct ToneStimulus {
  double sample_rate_hz = 48000;  ///< 8000 … 768000
  double frequency_hz = 997;      ///< above 0, below half the rate
  double level_dbfs = -20;        ///< of the peak; -200 … +60, above 0 only floats can hold it
  double phase_deg = 0;           ///< 0 starts at a rising zero crossing
  double seconds = 2;             ///< of the tone, fades included; above 0, at most 24 h
  double fade_in_s = 0;           ///< raised cosine; both fades together within `seconds`
  double fade_out_s = 0;
  double silence_before_s = 0;  ///< 0 … 24 h
  double silence_after_s = 0;
};

/// @throws Error bad_argument naming the first value that is out of range, and the range.
WAVICON_EXPORT void require_valid(const ToneStimulus& stimulus);

/// Frames of the whole stimulus, each stretch rounded to whole frames.
[[nodiscard]] WAVICON_EXPORT std::int64_t frame_count(const ToneStimulus& stimulus);

/// Writes frames first_frame … first_frame + out.size() - 1; frames beyond the end are silence.
///
/// @param stimulus  valid (require_valid).
/// @accuracy  phase 2e-9 cycles after 24 h, samples 4e-16 of the level (tone_test.cpp); same bits for any
/// division into blocks.
WAVICON_EXPORT void render(const ToneStimulus& stimulus, std::int64_t first_frame, std::span<double> out);

/// The frequency nearest to `frequency_hz` that has a whole number of cycles in `length` frames; at least one
/// cycle, and below half the rate.
[[nodiscard]] WAVICON_EXPORT double on_bin_frequency_hz(double frequency_hz, double sample_rate_hz,
                                                        std::int64_t length);

/// The largest power of two that is at most `frames`; 1 for fewer.
[[nodiscard]] WAVICON_EXPORT std::int64_t power_of_two_within(std::int64_t frames);

}  // namespace wavicon
