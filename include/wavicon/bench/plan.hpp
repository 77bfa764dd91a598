// SPDX-License-Identifier: MIT
#pragma once
// What a whole bench does, as a text: what is played, through what, over which rows of values, what is
// measured of it, and within which limits (docs/plans.md).

#include <cstddef>
#include <filesystem>
#include <functional>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/measure/measurement.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/stimulus/recipe.hpp"

namespace wavicon {

inline constexpr std::size_t kMostCells = 1'000'000;  ///< and as many comparisons of cells
/// Examines what is between instead of what came back (examination.hpp); written like a measurement.
inline constexpr const char* kExamination = "examination";

/// One value of a row: what it is called, and what stands in its place.
struct PlanValue {
  std::string name;
  std::string text;
};

/// A name and the values that it takes, one after the other.
struct PlanRow {
  std::string name;
  std::vector<PlanValue> values;
};

/// What is played. Where {name} stands, a row's value is put.
struct PlanPlay {
  std::string recipe;       ///< text
  std::string recipe_file;  ///< of a recipe
  std::string file;         ///< audio that somebody else made
  [[nodiscard]] bool known() const noexcept {
    return !recipe.empty() || !recipe_file.empty() || !file.empty();
  }
};

/// One measurement of every cell.
struct PlanMeasure {
  std::string name;
  std::string part;                                          ///< of the stimulus; empty: all that suit
  std::vector<std::pair<std::string, std::string>> options;  ///< keys and values, lists with spaces between
  /// The A of a comparison: empty for what was played, "first" for the first cell, "all" for every cell
  /// before, or "ROW=VALUE …" for the cell that differs in these.
  std::string against;
  /// Readings that are shown in its matrix, the one that is drawn first; empty: those that tell captures
  /// apart.
  std::vector<std::string> show;
  int channel = 0;  ///< from 1; 0: all
  bool despite_faults = false;
};

/// A limit, and the cells for which it holds.
struct PlanLimit {
  Limit limit;
  std::vector<std::pair<std::string, std::string>>
      where;  ///< values that a cell has to have; empty: every cell
  std::vector<std::pair<std::string, std::string>>
      other;  ///< in which the cell that "other" stands for differs; empty: "other" is not used
  bool where_given = false;  ///< a cell that does not give the reading keeps it
};

struct Plan {
  std::string name;
  std::filesystem::path folder;  ///< that files are named from
  PlanPlay play;
  double rate_hz = 0;              ///< of cells without one of their own; 0: that of a file
  std::vector<std::string> chain;  ///< units, {name} where a row's value stands; empty: nothing between
  std::string captures;            ///< files that came back already, in place of a chain; empty: none
  int block_frames = 512;
  std::vector<PlanRow> rows;
  bool side_by_side = false;  ///< rows go along together, not each value with each
  std::vector<PlanMeasure> measures;
  std::vector<PlanLimit> limits;
  std::string enough;  ///< the row of which the first value that keeps all limits is looked for; empty: none
  std::string over;    ///< the row along which pictures are drawn; empty: the one with most numbers
};

/// One combination of the rows' values.
struct Cell {
  std::vector<std::pair<std::string, std::string>> values;  ///< names, by row
  std::vector<std::string> chain;
  std::string capture;  ///< the file that came back; empty: it is fed
  double rate_hz = 0;   ///< 0: that of a file
  int block_frames = 512;
};
/// "drive=12 oversampling=4"; "all" of a plan without rows.
[[nodiscard]] WAVICON_EXPORT std::string name_of(const Cell& cell);

/// Reads a plan. Files that it names are beside it.
///
/// @param source  what to call the text in errors: its file's name.
/// @throws Error bad_input "SOURCE:LINE:COLUMN: …" for what is no TOML, an unknown key, measurement, option
/// or row (with the nearest name), a value of the wrong type or out of range, a row that nothing uses, two
/// cells alike, more cells than kMostCells, a recipe that is wrong with any of the values, and a limit on a
/// reading that no measurement of the plan gives.
[[nodiscard]] WAVICON_EXPORT Plan parse_plan(const std::string& text, const std::string& source,
                                             const std::filesystem::path& folder);

/// All cells, the last row's value changing first.
[[nodiscard]] WAVICON_EXPORT std::vector<Cell> cells_of(const Plan& plan);
/// Those whose values are these: "drive=12", several with spaces between. @throws Error bad_argument for a
/// row or value that the plan does not have.
[[nodiscard]] WAVICON_EXPORT std::vector<Cell> cells_of(const Plan& plan, const std::string& only);
/// Values by the names of rows: "drive=12 oversampling=4". @throws Error bad_argument as cells_of().
[[nodiscard]] WAVICON_EXPORT std::vector<std::pair<std::string, std::string>> row_values(
    const Plan& plan, const std::string& text);

/// A text with the cell's values where {name} stands.
[[nodiscard]] WAVICON_EXPORT std::string filled(const Plan& plan, const Cell& cell, const std::string& text);
/// The recipe that is played in a cell, as it is rendered: at the cell's rate. @throws Error bad_input as
/// parse_recipe(); bad_argument where a plan plays none.
[[nodiscard]] WAVICON_EXPORT Recipe recipe_of(const Plan& plan, const Cell& cell);

/// A measurement with its options set. @throws Error bad_argument for an unknown option or a value it does
/// not take.
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<Measurement> measurement_of(const PlanMeasure& measure);

/// One thing that is run for itself: a cell, a comparison of two of them, or all cells together.
struct CellRun {
  Cell cell;                 ///< of a comparison: its B
  std::vector<Cell> others;  ///< its A; of all together: every cell
  bool together = false;
  std::vector<PlanMeasure> measures;
};
/// "block=64 against block=512".
[[nodiscard]] WAVICON_EXPORT std::string name_of(const CellRun& run);
/// A plan that is shipped.
struct ReadyPlan {
  std::string name;
  std::string question;  ///< that it answers
  std::string takes;     ///< what is given to it: "UNIT…", "CAPTURE…"
  std::string text;      ///< with marks where units or captures are put
};
/// Those of this library, by name.
[[nodiscard]] WAVICON_EXPORT const std::vector<ReadyPlan>& ready_plans();
/// The text of a ready plan with what is given put in: units (SCHEME:NAME?setting=value, several values with
/// commas are a row; "nothing"), or files of captures.
///
/// @param file_of  how the plan is to name a file. @throws Error bad_argument for an unknown name (with the
/// nearest), for nothing given, for too few, or for what the plan does not take.
[[nodiscard]] WAVICON_EXPORT std::string ready_plan_text(
    const std::string& name, const std::vector<std::string>& given,
    const std::function<std::string(const std::string&)>& file_of = {});

/// What is to be run for these cells: the cells, then comparisons, then what takes all of them.
///
/// @throws Error bad_argument for more than kMostCells comparisons.
[[nodiscard]] WAVICON_EXPORT std::vector<CellRun> runs_of(const Plan& plan, const std::vector<Cell>& cells);

}  // namespace wavicon
