// SPDX-License-Identifier: MIT
#pragma once
// A plan carried out: cells fed and measured, several at once, each in a process of its own; what the logbook
// holds already is taken from there.

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/bench/plan.hpp"
#include "wavicon/path/unit.hpp"
#include "wavicon/sheet/page.hpp"
#include "wavicon/sheet/picture.hpp"

namespace wavicon {

struct BenchOptions {
  int jobs = 1;                       ///< cells at once; live ones are run alone, one after the other
  Logbook* logbook = nullptr;         ///< keeps every cell, and knows those of earlier runs; null: none
  bool again = false;                 ///< also what the logbook holds is run
  Tags tags;                          ///< kept with each sheet, beside the plan's name and the cell
  UnitSearch units;                   ///< where units are looked for; its rate is each cell's own
  std::string captures;               ///< folder for what came back, of every cell; empty: it is thrown away
  std::size_t share = 1, shares = 1;  ///< of what is to be run, every so-manieth: share 1 … shares
  /// Called after each cell, and now and then; what it throws ends the run, and what was measured stays.
  std::function<void(std::size_t done, std::size_t failed, std::size_t all)> progress;
};

struct CellResult {
  enum class State {
    measured,
    known,  ///< by the logbook
    failed,
  };
  CellRun run;
  State state = State::failed;
  std::string reason;  ///< why it failed
  std::vector<Sheet> sheets;
  double seconds = 0;
  std::string known_by;  ///< digest of all that its figures depend on
  std::string doubt;     ///< what makes them doubtful: the unit's binary changed meanwhile; empty: nothing
};
[[nodiscard]] inline std::string name_of(const CellResult& result) { return name_of(result.run); }

/// Runs cells of a plan, and the comparisons of them, in their order. One that fails has a reason; the others
/// go on. Of several measurements of a cell those that fail have a sheet with the reason, unless all do.
///
/// Forks: to be called where no other thread runs. @throws Error bad_argument for a unit that is not there or
/// a setting that it does not take, before any cell is run; write_failed and bad_input of the logbook.
[[nodiscard]] WAVICON_EXPORT std::vector<CellResult> run_cells(const Plan& plan,
                                                               const std::vector<Cell>& cells,
                                                               const BenchOptions& options);

/// How long what is to be run took before, by the logbook.
struct BenchEstimate {
  std::size_t runs = 0;   ///< to be run
  std::size_t known = 0;  ///< that the logbook holds already
  double seconds = 0;     ///< that the others need, one after the other; 0: nothing of this plan was run yet
  double sound_s = 0;     ///< that is played in all of them; 0: not known
};
/// @param logbook  null: nothing is known.
[[nodiscard]] WAVICON_EXPORT BenchEstimate estimated(const Plan& plan, const std::vector<Cell>& cells,
                                                     const BenchOptions& options);

/// How one limit of a plan stands in one cell.
struct CellLimit {
  std::size_t cell = 0;  ///< of the results
  LimitResult result;
  std::string
      missing;  ///< why there is nothing that was kept to hold it against; empty: there is, or need not be
};
/// Every limit in every cell that was measured and for which it holds.
///
/// @param logbook  for limits that name what was kept: of cells with the same values of the same plan,
/// measured of
///                 something else (another build of a plugin) than this one; null: such limits are not
///                 allowed.
[[nodiscard]] WAVICON_EXPORT std::vector<CellLimit> check_limits(const Plan& plan,
                                                                 const std::vector<CellResult>& results,
                                                                 const Logbook* logbook = nullptr);

/// From which value of a row on all limits are kept, for each combination of the other rows' values.
struct EnoughValue {
  std::string others;                ///< "drive=18"; empty where there is no other row
  std::optional<std::string> value;  ///< none: no value does, or the last ones do not
};
/// @throws Error bad_argument for a row that the plan does not have, or a plan without limits.
[[nodiscard]] WAVICON_EXPORT std::vector<EnoughValue> enough_values(const Plan& plan,
                                                                    const std::vector<CellResult>& results,
                                                                    const std::vector<CellLimit>& limits,
                                                                    const std::string& row);

/// The answer in a few lines, and a matrix for each measurement.
[[nodiscard]] WAVICON_EXPORT Page bench_page(const Plan& plan, const std::vector<CellResult>& results,
                                             const std::vector<CellLimit>& limits);
/// A test case for each cell and limit, as JUnit's XML.
[[nodiscard]] WAVICON_EXPORT std::string bench_junit(const Plan& plan, const std::vector<CellResult>& results,
                                                     const std::vector<CellLimit>& limits);

/// What is drawn of one measurement: its first figure over a row of numbers, a line for each combination of
/// the others, or in rows where there are no numbers.
struct BenchPicture {
  std::string measurement;
  std::string key;  ///< of its table on the page
  std::vector<Sheet> drawn;
  Picture picture;
};
/// Sheets of the matrix with that key on the page: of its measurement and part, and of its comparisons alone.
[[nodiscard]] WAVICON_EXPORT std::vector<Sheet> sheets_of_table(const Plan& plan,
                                                                const std::vector<CellResult>& results,
                                                                const std::string& key);
/// One for each measurement that gives figures; none for a single cell.
[[nodiscard]] WAVICON_EXPORT std::vector<BenchPicture> bench_pictures(const Plan& plan,
                                                                      const std::vector<CellResult>& results);

}  // namespace wavicon
