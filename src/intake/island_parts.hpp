// SPDX-License-Identifier: MIT
#pragma once
// What a stretch without silence is made of. Internal to `intake`.

#include <cstdint>
#include <span>
#include <vector>

#include "wavicon/intake/recognise.hpp"

namespace wavicon::intake_detail {

/// The first model that explains it: impulse, offset, a level that runs, tones one after the other, several
/// at once, a sweep, noise; else a hit or programme.
///
/// @param first_frame  of x in the signal. @param idle_rms  of the noise under it.
/// @param room_before  frames before x, and behind it, into which a fade may be carried on.
[[nodiscard]] std::vector<RecognisedPart> island_parts(std::span<const double> x, std::int64_t first_frame,
                                                       double sample_rate_hz, double idle_rms,
                                                       std::int64_t room_before, std::int64_t room_after);

/// Whether the first five seconds of sound are certain to be something: a quick look that tells test signals
/// from programme. @throws Error as find_islands().
[[nodiscard]] bool begins_certainly(AudioSource& signal);

}  // namespace wavicon::intake_detail
