// SPDX-License-Identifier: MIT
#pragma once
// Sheets as text: JSON for programs, CSV for spreadsheets.

#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/page.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// One sheet as an object, several as an array; format "wavicon-sheet" version 1 (docs/sheets.md). Channels
/// count from 1, numbers have up to 12 digits, what does not exist is null. The same sheet gives the same
/// text.
[[nodiscard]] WAVICON_EXPORT std::string sheets_to_json(const std::vector<Sheet>& sheets);

/// Sheets read back: one object, an array of them, or objects line by line (as a logbook exports them, each
/// within its entry: see logbook.hpp). What sheets_to_json() writes comes back as it was, but for what it
/// rounds; readings have no entry of the catalogue.
///
/// @param name  of the text, for messages. @return at least one.
/// @throws Error bad_input for what is no sheet, is broken, or is of a version that is not known, saying
/// where.
[[nodiscard]] WAVICON_EXPORT std::vector<Sheet> sheets_from_json(const std::string& text,
                                                                 const std::string& name);

/// The only sheet of a text. @throws Error as sheets_from_json(), and where there are several.
[[nodiscard]] WAVICON_EXPORT Sheet sheet_from_json(const std::string& text,
                                                   const std::string& name = "sheet");

/// One line: an object of these texts and numbers, and `sheets` without their curves and maps.
[[nodiscard]] WAVICON_EXPORT std::string sheets_to_json_line(
    std::vector<Sheet> sheets, const std::vector<std::pair<std::string, std::string>>& texts,
    const std::vector<std::pair<std::string, double>>& numbers);

/// A line per reading: file, measurement, name, channel, value, unit, floor, bound, conditions.
[[nodiscard]] WAVICON_EXPORT std::string sheets_to_csv(const std::vector<Sheet>& sheets);

/// A page as an object: its answer, and each table as an array of objects by the keys of its columns.
[[nodiscard]] WAVICON_EXPORT std::string page_to_json(const Page& page);

/// The first table of a page that has rows, a line per row; a figure is followed by its uncertainty.
[[nodiscard]] WAVICON_EXPORT std::string page_to_csv(const Page& page);

/// "2026-11-28T21:00:00Z" of seconds since 1970.
[[nodiscard]] WAVICON_EXPORT std::string time_text(std::int64_t seconds);
/// Seconds since 1970 of "2026-11-28T21:00:00Z", "2026-11-28T21:00" or "2026-11-28" (its beginning), all UTC.
/// @throws Error bad_argument for what is none.
[[nodiscard]] WAVICON_EXPORT std::int64_t parse_time(const std::string& text);

}  // namespace wavicon
