// SPDX-License-Identifier: MIT
#pragma once
// Sheets as text: JSON for programs, CSV for spreadsheets.

#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// One sheet as an object, several as an array; format "wavicon-sheet" version 1 (docs/sheets.md). Channels
/// count from 1, numbers have up to 12 digits, what does not exist is null. The same sheet gives the same
/// text.
[[nodiscard]] WAVICON_EXPORT std::string sheets_to_json(const std::vector<Sheet>& sheets);

/// A line per reading: file, measurement, name, channel, value, unit, floor, bound, conditions.
[[nodiscard]] WAVICON_EXPORT std::string sheets_to_csv(const std::vector<Sheet>& sheets);

}  // namespace wavicon
