// SPDX-License-Identifier: MIT
#pragma once
// The only place where decibels and linear values are converted into each other.

#include <cmath>
#include <limits>

namespace wavicon {

/// 20·log10 of an amplitude ratio at or above 0; minus infinity for 0.
[[nodiscard]] inline double db_from_ratio(double ratio) { return 20.0 * std::log10(ratio); }
/// 10·log10 of a power ratio at or above 0; minus infinity for 0.
[[nodiscard]] inline double db_from_power_ratio(double ratio) { return 10.0 * std::log10(ratio); }
/// Amplitude ratio of a level in dB.
[[nodiscard]] inline double ratio_from_db(double db) { return std::pow(10.0, db / 20.0); }
/// Power ratio of a level in dB.
[[nodiscard]] inline double power_ratio_from_db(double db) { return std::pow(10.0, db / 10.0); }

/// What a small share of an amplitude is in dB, over the share: 20/ln 10; half of it for a power.
inline constexpr double kDbOfAmplitudeShare = 8.685889638065037;
inline constexpr double kDbOfPowerShare = kDbOfAmplitudeShare / 2;

/// 0 dBu: a milliwatt in 600 ohms, sqrt(0.6) V RMS.
inline constexpr double kVoltsAt0Dbu = 0.774596669241483;

}  // namespace wavicon
