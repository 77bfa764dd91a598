// SPDX-License-Identifier: MIT
#pragma once
// What full scale is in volts.

#include <optional>
#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Volts RMS of a full-scale sine from "0dBFS=2.45Vrms", "0dBFS=850mVrms" or "0dBFS=18dBu".
///
/// @throws Error bad_argument showing how one is written.
[[nodiscard]] WAVICON_EXPORT double full_scale_vrms(const std::string& text);

/// Level in dBFS of the peak of a sine that is given as "-20", "-20dBFS", "4V", "50mV" (RMS), "4dBu" or
/// "-10dBV".
///
/// @param vrms_at_full_scale  as full_scale_vrms() gives it; none: no calibration is known.
/// @throws Error bad_argument showing how one is written, or for volts without a calibration.
[[nodiscard]] WAVICON_EXPORT double level_dbfs_of(const std::string& text,
                                                  const std::optional<double>& vrms_at_full_scale);

}  // namespace wavicon
