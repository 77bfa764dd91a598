#pragma once
// Where a spectrum ends. Internal to `intake`.

#include <optional>
#include <span>

namespace wavicon::intake_detail {

/// The frequency above which there is nothing but a floor at least 30 dB lower, when it lies below 0.85 of
/// half the rate and the fall takes less than a sixth of an octave: what a converter of a lower rate leaves.
/// None for sound that fades out by itself, ends near half the rate, or is shorter than a tenth of a second.
[[nodiscard]] std::optional<double> band_end_hz(std::span<const double> samples, double sample_rate_hz);

}  // namespace wavicon::intake_detail
