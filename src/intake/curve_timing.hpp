// SPDX-License-Identifier: MIT
#pragma once
// The delay of a short sound that came back bent: by the curve that bends it. Internal to `intake`.

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kept_channel.hpp"
#include "wavicon/audio/source.hpp"

namespace wavicon::intake_detail {

/// A delay, and how much of the capture's power is left over beside what explains it.
struct CurveTiming {
  double delay_frames = 0;
  double sigma_frames = 0;
  double left = 1;           ///< beside a curve of the reference, 0 … 1
  double left_straight = 1;  ///< beside a straight line, at the best delay for that
  std::size_t values = 0;    ///< that are louder than -40 dB of the peak: what the curve is drawn through
  std::vector<double> left_of_pieces;  ///< the same for each piece of its own power
};

/// Saturation changes how loud the parts of a signal are against each other, which pulls a delay that is
/// found by likeness (a kick falls in pitch while it fades); it does not move them. A capture that is a curve
/// of the reference, value by value, at one delay is timed by that delay.
///
/// Method: cubic splines over the reference's values, fitted at each delay (variable projection);
/// Gauss-Newton in the delay. The reference is what is read between its frames: it holds nothing that folded.
/// @param first_frame, window  of the reference.
/// @param delay_frames  known to about a frame.
/// @return none when no delay near it is a minimum.
[[nodiscard]] std::optional<CurveTiming> time_by_curve(AudioSource& reference, int reference_channel,
                                                       std::int64_t first_frame,
                                                       std::span<const double> window, AudioSource& capture,
                                                       int capture_channel, double delay_frames);

/// The same from pieces that are spread over a stretch of the reference, first … end, near each of some
/// delays, on all threads that are allowed.
/// @return in the order of the delays, but for those near which none is a minimum.
[[nodiscard]] std::vector<CurveTiming> time_by_curves_over(KeptChannel& reference, std::int64_t first,
                                                           std::int64_t end, KeptChannel& capture,
                                                           const std::vector<double>& delays);

/// Whether the curve that those pieces draw holds in every block of the stretch that sounds, to -17 dB: not
/// where frames were lost of a tone by whole periods, nor where a gain took time to change.
[[nodiscard]] bool holds_everywhere(AudioSource& reference, int reference_channel, std::int64_t first,
                                    std::int64_t end, AudioSource& capture, int capture_channel,
                                    double delay_frames);

/// Whether a curve explains what a straight line does not.
[[nodiscard]] bool is_bent(const CurveTiming& timing) noexcept;

/// Of places that come into question, the one where the capture is a curve of the reference to -25 dB, if it
/// is plainly less so at the others: by the mean of the logarithms of what is left of each piece, as pieces
/// differ in level and noise. Null when there is none, or too little to draw a curve through.
[[nodiscard]] const CurveTiming* proven_curve(std::span<const CurveTiming> places);

}  // namespace wavicon::intake_detail
