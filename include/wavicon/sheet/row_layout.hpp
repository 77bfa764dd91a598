// SPDX-License-Identifier: MIT
#pragma once
// Sheets that are read better as rows of a table, as plain data: measurements say it, `present` prints it.

#include <cstddef>
#include <string>
#include <utility>
#include <vector>

namespace wavicon {

/// Sheets of pairs: where each stands, as row and column.
struct PairGrid {
  std::vector<std::string> rows, columns;                   ///< names
  std::vector<std::pair<std::size_t, std::size_t>> places;  ///< one for each sheet; empty: no grid
};

/// Either sheets as rows, or one sheet with a row for each value of a condition.
struct RowLayout {
  std::string heading;             ///< of the first column
  std::vector<std::string> names;  ///< one for each sheet that is a row; those beyond are shown whole
  bool rest_in_words = false;      ///< of the sheets beyond only what they say
  std::string rows_by;  ///< instead: the condition whose values are the rows; empty: sheets are rows
  std::vector<std::string> columns;  ///< readings
  std::string row_words;  ///< a condition in words: each reading has a row of its own, those of one value
                          ///< together, and readings without the condition stand above as they do elsewhere
  std::string column_condition;       ///< and a condition in a last column; empty: none
  std::vector<std::string> matrices;  ///< with a grid: a table for each of these readings, in words and unit
  PairGrid grid;  ///< instead: sheets in a grid, a cell with the `columns` of its worst channel
};

}  // namespace wavicon
