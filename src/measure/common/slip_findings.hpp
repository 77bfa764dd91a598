// SPDX-License-Identifier: MIT
#pragma once
// Frames that were lost or inserted, as findings. Internal to `measure`.

#include <string>

#include "wavicon/intake/align.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon::measure_detail {

/// "300 frames were lost at 2.503 s of A: …", as a warning.
/// @param consequence  for the measurement, or what to do.
inline void say_slip(SheetBuilder& sheet, const Slip& slip, double sample_rate_hz,
                     const std::string& consequence) {
  sheet.say(Severity::warning, slip.frames < 0 ? FindingCode::lost_frames : FindingCode::repeated_frames,
            slips_text({slip}, sample_rate_hz) + " of A: " + consequence, std::nullopt);
}

}  // namespace wavicon::measure_detail
