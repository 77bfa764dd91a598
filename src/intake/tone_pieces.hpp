// SPDX-License-Identifier: MIT
#pragma once
// Steady tones one after the other, with or without gaps: where each begins and ends, and what it is.
// Internal to `intake`.

#include <cstdint>
#include <span>
#include <vector>

namespace wavicon::intake_detail {

/// A steady sine, alone or with overtones of its own.
struct TonePiece {
  std::int64_t first = 0;  ///< its first sample, fade included
  std::int64_t end = 0;
  double cycles_per_frame = 0;
  double amplitude = 0;
  double phase_cycles = 0;    ///< of its sine at `first`
  double fade_in_frames = 0;  ///< of a raised cosine
  double fade_out_frames = 0;
  double wander = 0;              ///< largest relative change of its complex amplitude within what is steady
  std::int64_t steady_first = 0;  ///< what was found steady
  std::int64_t steady_end = 0;
};

/// Grows each tone from a seed for as long as its complex amplitude, over a few periods at a time, stays
/// where it was; joints between two tones are set to the sample by the least sum of residuals, other ends
/// where the signal begins and ends.
///
/// @param x      one island. @param noise_rms  under it.
/// @param room_before  frames before the island, and behind it, that nothing else holds: a fade that sinks
/// into
///               the noise is carried on into them, so that `first` may lie below 0 and `end` beyond x.
/// @return in order of time, without overlap; what is no steady tone is left out.
[[nodiscard]] std::vector<TonePiece> tone_pieces(std::span<const double> x, double sample_rate_hz,
                                                 double noise_rms, std::int64_t room_before = 0,
                                                 std::int64_t room_after = 0);

}  // namespace wavicon::intake_detail
