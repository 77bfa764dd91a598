// SPDX-License-Identifier: MIT
#pragma once
// What a whole bench does, as a text: what is played, through what, over which rows of values, what is
// measured of it, and within which limits (docs/plans.md).

#include <cstddef>
#include <filesystem>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/measure/measurement.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/stimulus/recipe.hpp"

namespace wavicon {

inline constexpr std::size_t kMostCells = 1'000'000;

/// A name and the values that it takes, one after the other.
struct PlanRow {
  std::string name;
  std::vector<std::string> values;
};

/// One measurement of every cell.
struct PlanMeasure {
  std::string name;
  std::string part;                                          ///< of the stimulus; empty: all that suit
  std::vector<std::pair<std::string, std::string>> options;  ///< keys and values, lists with spaces between
};

/// A limit, and the cells for which it holds.
struct PlanLimit {
  Limit limit;
  std::vector<std::pair<std::string, std::string>>
      where;  ///< values that a cell has to have; empty: every cell
};

struct Plan {
  std::string name;
  std::string recipe;  ///< text of what is played; its rate is that of cells without one of their own
  std::vector<std::string> chain;  ///< units, {name} where a row's value stands; empty: nothing between
  int block_frames = 512;
  std::vector<PlanRow> rows;
  bool side_by_side = false;  ///< rows go along together, not each value with each
  std::vector<PlanMeasure> measures;
  std::vector<PlanLimit> limits;
};

/// One combination of the rows' values.
struct Cell {
  std::vector<std::pair<std::string, std::string>> values;  ///< by row
  std::vector<std::string> chain;
  double rate_hz = 0;
  int block_frames = 512;
};
/// "drive=12 oversampling=4"; "all" of a plan without rows.
[[nodiscard]] WAVICON_EXPORT std::string name_of(const Cell& cell);

/// Reads a plan. Files that it names lie beside it.
///
/// @param source  what to call the text in errors: its file's name.
/// @throws Error bad_input "SOURCE:LINE:COLUMN: …" for what is no TOML, an unknown key, measurement, option
/// or row (with the nearest name), a value of the wrong type or out of range, a row that nothing uses, two
/// cells alike, more cells than kMostCells, and a limit on a reading that no measurement of the plan gives.
[[nodiscard]] WAVICON_EXPORT Plan parse_plan(const std::string& text, const std::string& source,
                                             const std::filesystem::path& folder);

/// All cells, the last row's value changing first.
[[nodiscard]] WAVICON_EXPORT std::vector<Cell> cells_of(const Plan& plan);
/// Those whose values are these: "drive=12", several with spaces between. @throws Error bad_argument for a
/// row or value that the plan does not have.
[[nodiscard]] WAVICON_EXPORT std::vector<Cell> cells_of(const Plan& plan, const std::string& only);

/// A measurement with its options set. @throws Error bad_argument for an unknown option or a value it does
/// not take.
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<Measurement> measurement_of(const PlanMeasure& measure);

}  // namespace wavicon
