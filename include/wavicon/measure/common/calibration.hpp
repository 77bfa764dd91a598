// SPDX-License-Identifier: MIT
#pragma once
// What full scale is in volts.

#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Volts RMS of a full-scale sine from "0dBFS=2.45Vrms", "0dBFS=850mVrms" or "0dBFS=18dBu".
///
/// @throws Error bad_argument showing how one is written.
[[nodiscard]] WAVICON_EXPORT double full_scale_vrms(const std::string& text);

}  // namespace wavicon
