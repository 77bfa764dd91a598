// SPDX-License-Identifier: MIT
#pragma once
// How strongly frequencies count in weighted noise levels.

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A-weighting as a factor of power; 1 at 1 kHz. Source: IEC 61672-1, the analogue formula (to verify).
/// @accuracy  0.05 dB against the standard's rounded table (weighting_test.cpp).
[[nodiscard]] WAVICON_EXPORT double a_weight(double frequency_hz);

/// ITU-R BS.468-4 weighting as a factor of power; 1 at 1 kHz, +12.2 dB at 6.3 kHz. Source: the rational
/// function that follows the standard's network (to verify). With an RMS detector, not the standard's
/// quasi-peak one.
/// @accuracy  0.1 dB against the standard's rounded table up to 16 kHz, 0.3 dB at 20 kHz
/// (weighting_test.cpp).
[[nodiscard]] WAVICON_EXPORT double itu_r_468_weight(double frequency_hz);

/// K-weighting of loudness as a factor of power; 0.691 dB at 1 kHz. Source: ITU-R BS.1770-4, both filters as
/// given for 48 kHz (to verify). Frequencies from 24 kHz on count as just below it.
[[nodiscard]] WAVICON_EXPORT double k_weight(double frequency_hz);

}  // namespace wavicon
