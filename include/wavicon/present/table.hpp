// SPDX-License-Identifier: MIT
#pragma once
// Sheets as text for a terminal.

#include <cstddef>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/sheet/row_layout.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// What a text is shown on.
struct TableStyle {
  std::size_t columns = 100;  ///< no line of a table, and of a sentence that can be parted, is wider
  bool colour = false;        ///< answers bold, warnings and faults in colour (ECMA-48, SGR)
};

/// Rows of cells as lines with aligned columns, two spaces between them, no trailing spaces; UTF-8 letters
/// count as one column.
///
/// @param right_aligned  one for each column; missing ones align to the left.
[[nodiscard]] WAVICON_EXPORT std::string aligned(const std::vector<std::vector<std::string>>& rows,
                                                 const std::vector<bool>& right_aligned);

/// As aligned(), with the last cell of a row going on below itself where the line would be wider than that.
[[nodiscard]] WAVICON_EXPORT std::string aligned_within(const std::vector<std::vector<std::string>>& rows,
                                                        const std::vector<bool>& right_aligned,
                                                        std::size_t columns);

/// A value with the digits that its unit deserves, "< " before a bound, "none" for no value; without the
/// unit.
[[nodiscard]] WAVICON_EXPORT std::string value_text(const Reading& reading);

/// A peak, full scale = 1, as a level: "-3.10 dBFS", or "silent". @param digits  after the point.
[[nodiscard]] WAVICON_EXPORT std::string level_text(double peak, int digits = 2);

/// All of a sheet: findings first, then for each channel its readings by their names beside the floor, then
/// the conditions.
[[nodiscard]] WAVICON_EXPORT std::string sheet_table(const Sheet& sheet, const TableStyle& style = {});

/// A sheet for a person: the answer, then the readings that decide in words and units of the trade, then the
/// circumstances in a line. Frequencies from 1000 Hz on are shown in kHz; two readings of the same words
/// stand in one row: "THD  1.23 % (-38.23 dB)". Readings of which there are several (orders, lines, tones,
/// hits) stand in rows of their own.
///
/// @param deciding  names, patterns such as "h{}_dbc" among them, in the order of the rows; readings that are
///                  not among them are left to sheet_table().
[[nodiscard]] WAVICON_EXPORT std::string capture_table(const Sheet& sheet,
                                                       const std::vector<std::string>& deciding,
                                                       const TableStyle& style = {});

/// All of several sheets side by side: findings of each, then a row per reading and a column per sheet, with
/// the differences of levels to the first; nothing is subtracted from a bound. Sheets that do not fit beside
/// each other follow below, each time beside the first.
[[nodiscard]] WAVICON_EXPORT std::string comparison_table(const std::vector<Sheet>& sheets,
                                                          const TableStyle& style = {});

/// Several captures for a person: what each says, then a row for each (of several channels, for each of
/// these) with the readings that decide in words and units of the trade, and differences of levels to the
/// first. What the names share stands once.
///
/// @param headline  readings that stand first; then those by which the captures differ more than is uncertain
///                  of them, as far as there is room.
/// @param deciding  as for capture_table(): which those are; empty: any.
[[nodiscard]] WAVICON_EXPORT std::string captures_table(const std::vector<Sheet>& sheets,
                                                        const std::vector<std::string>& headline,
                                                        const std::vector<std::string>& deciding = {},
                                                        const TableStyle& style = {});

/// What a sheet says: a sentence a line, after the file's name where that changes; long ones go on below,
/// indented.
[[nodiscard]] WAVICON_EXPORT std::string findings_text(const Sheet& sheet, const TableStyle& style = {});

/// One row per sheet, under its name, and a column per reading in words and unit: for the steps of a ladder.
///
/// @param names     one for each sheet. @param readings  names of the columns; those that no sheet has are
///                  left out, and those that do not fit go on below; a reading of the whole stands on the
///                  first channel's row. @param heading  over the names.
[[nodiscard]] WAVICON_EXPORT std::string ladder_table(const std::vector<Sheet>& sheets,
                                                      const std::vector<std::string>& names,
                                                      const std::vector<std::string>& readings,
                                                      const std::string& heading = "step",
                                                      const TableStyle& style = {});

/// A sheet of which nothing is wrong, with all that it says in one sentence; any other as it is.
[[nodiscard]] WAVICON_EXPORT Sheet folded(const Sheet& sheet);

/// An answer, bold where there is colour; with its line end.
[[nodiscard]] WAVICON_EXPORT std::string answer_text(const std::string& answer, const TableStyle& style);

/// A line beside the matter, dimmed where there is colour; with its line end.
[[nodiscard]] WAVICON_EXPORT std::string aside_text(const std::string& line, const TableStyle& style);

/// Sheets laid out in rows as a measurement says.
///
/// @param deciding  as for capture_table(), of what has no row.
[[nodiscard]] WAVICON_EXPORT std::string row_table(const std::vector<Sheet>& sheets, const RowLayout& layout,
                                                   const std::vector<std::string>& deciding = {},
                                                   const TableStyle& style = {});

/// The conditions that all readings of all sheets share, as lines.
///
/// @param more  not empty: one line, as many as fit before this, which ends it; the rest is left out.
[[nodiscard]] WAVICON_EXPORT std::string shared_conditions(const std::vector<Sheet>& sheets,
                                                           const TableStyle& style = {},
                                                           const std::string& more = "");

/// A line per compared reading: kept, not kept and by how much, or undecided.
[[nodiscard]] WAVICON_EXPORT std::string limit_lines(const std::vector<LimitResult>& results,
                                                     const TableStyle& style = {});

}  // namespace wavicon
