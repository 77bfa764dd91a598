// SPDX-License-Identifier: MIT
#pragma once
// Whether a stretch is noise that stands still, and which. Internal to `intake`.

#include <cstdint>
#include <optional>
#include <span>

namespace wavicon::intake_detail {

struct NoiseKind {
  enum class Colour { white, pink, other } colour = Colour::other;
  double from_hz = 0, to_hz = 0;  ///< where its density falls 10 dB below that of the middle
  double rms = 0;
  std::int64_t period_frames = 0;  ///< after which it comes again; 0: it does not
  double tilt_db_per_octave = 0;   ///< of its density
};

/// Noise: in 13 bands the power scatters from frame to frame as chance makes it (0.4 to 1.35 times, and more
/// where there are few frames), without a trend, its samples have the kurtosis of a Gaussian, and its
/// spectrum scatters as a Gaussian's does. Or noise that repeats: it is like itself a period later to 0.97.
[[nodiscard]] std::optional<NoiseKind> noise_kind(std::span<const double> x, double sample_rate_hz);

}  // namespace wavicon::intake_detail
