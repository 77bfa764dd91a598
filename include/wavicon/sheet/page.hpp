// SPDX-License-Identifier: MIT
#pragma once
// An answer with its tables as plain data: what looks at many sheets hands over, to be shown as text, JSON or
// CSV.

#include <string>
#include <variant>
#include <vector>

#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// What one figure is more than another, of the same unit.
struct FigureChange {
  double value = 0;
  double uncertainty = 0;  ///< k = 2, of both together
  std::string unit;
  const ReadingEntry* entry = nullptr;  ///< of both; null: of no catalogue
};

/// A text, a figure or a change of one; an empty text is an empty cell.
using PageCell = std::variant<std::string, Reading, FigureChange>;

struct PageColumn {
  std::string key;      ///< in JSON and CSV: snake case
  std::string heading;  ///< for a person
  bool right = false;   ///< aligned to the right
};

struct PageTable {
  std::string key;    ///< in JSON: snake case
  std::string title;  ///< over it; empty: none
  std::vector<PageColumn> columns;
  std::vector<std::vector<PageCell>> rows;  ///< of as many cells as there are columns
};

struct Page {
  std::vector<std::vector<PageCell>> answer;  ///< sentences, each of pieces that are put together as they are
  Conditions under;                           ///< that what is compared has in common
  std::vector<PageTable> tables;              ///< those without rows are not shown
  std::vector<std::string> remarks;
};

}  // namespace wavicon
