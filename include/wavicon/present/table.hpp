// SPDX-License-Identifier: MIT
#pragma once
// Sheets as text for a terminal.

#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/sheet/row_layout.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// Rows of cells as lines with aligned columns, two spaces between them, no trailing spaces; UTF-8 letters
/// count as one column.
///
/// @param right_aligned  one for each column; missing ones align to the left.
[[nodiscard]] WAVICON_EXPORT std::string aligned(const std::vector<std::vector<std::string>>& rows,
                                                 const std::vector<bool>& right_aligned);

/// A value with the digits that its unit deserves, "< " before a bound, "none" for no value; without the
/// unit.
[[nodiscard]] WAVICON_EXPORT std::string value_text(const Reading& reading);

/// A peak, full scale = 1, as a level: "-3.10 dBFS", or "silent". @param digits  after the point.
[[nodiscard]] WAVICON_EXPORT std::string level_text(double peak, int digits = 2);

/// A sheet for the eye: findings first, then for each channel its readings beside the floor, then the
/// conditions.
[[nodiscard]] WAVICON_EXPORT std::string sheet_table(const Sheet& sheet);

/// Several sheets side by side: findings of each, then a row per reading and a column per sheet, with the
/// differences of levels to the first; nothing is subtracted from a bound.
[[nodiscard]] WAVICON_EXPORT std::string comparison_table(const std::vector<Sheet>& sheets);

/// Several captures for a person: what each says, then a row for each (of several channels, for each of
/// these) with the readings that decide in words and units of the trade, and differences of levels to the
/// first. What the names share stands once.
///
/// @param headline  readings that stand first; then those by which the captures differ more than is uncertain
/// of
///                  them, as far as there is room. @param columns_wide  of the terminal.
[[nodiscard]] WAVICON_EXPORT std::string captures_table(const std::vector<Sheet>& sheets,
                                                        const std::vector<std::string>& headline,
                                                        std::size_t columns_wide = 100);

/// What a sheet says, a sentence a line.
[[nodiscard]] WAVICON_EXPORT std::string findings_text(const Sheet& sheet);

/// One row per sheet, under its name, and a column per reading: for the steps of a ladder.
///
/// @param names     one for each sheet. @param readings  names of the columns; those that no sheet has are
/// left out; a reading of the whole
///                  stands on the first channel's row. @param heading  over the names.
[[nodiscard]] WAVICON_EXPORT std::string ladder_table(const std::vector<Sheet>& sheets,
                                                      const std::vector<std::string>& names,
                                                      const std::vector<std::string>& readings,
                                                      const std::string& heading = "step");

/// Sheets laid out in rows as a measurement says.
[[nodiscard]] WAVICON_EXPORT std::string row_table(const std::vector<Sheet>& sheets, const RowLayout& layout);

/// The conditions that all readings of all sheets share, as lines.
[[nodiscard]] WAVICON_EXPORT std::string shared_conditions(const std::vector<Sheet>& sheets);

/// A line per compared reading: kept, not kept or undecided.
[[nodiscard]] WAVICON_EXPORT std::string limit_lines(const std::vector<LimitResult>& results);

}  // namespace wavicon
