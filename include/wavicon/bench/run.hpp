// SPDX-License-Identifier: MIT
#pragma once
// A plan carried out: cells fed and measured, several at once, each in a process of its own; what the logbook
// holds already is taken from there.

#include <functional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/bench/plan.hpp"
#include "wavicon/path/unit.hpp"
#include "wavicon/sheet/page.hpp"

namespace wavicon {

struct BenchOptions {
  int jobs = 1;                ///< cells at once
  Logbook* logbook = nullptr;  ///< keeps every cell, and knows those of earlier runs; null: none
  bool again = false;          ///< also what the logbook holds is run
  Tags tags;                   ///< kept with each sheet, beside the plan's name and the cell
  UnitSearch units;            ///< where units are looked for; its rate is each cell's own
  std::string captures;        ///< folder for what came back; empty: it is thrown away
  /// Called after each cell, and now and then; what it throws ends the run, and what was measured stays.
  std::function<void(std::size_t done, std::size_t failed)> progress;
};

struct CellResult {
  enum class State {
    measured,
    known,  ///< by the logbook
    failed,
  };
  Cell cell;
  State state = State::failed;
  std::string reason;  ///< why it failed
  std::vector<Sheet> sheets;
  double seconds = 0;
  std::string known_by;  ///< digest of all that its figures depend on
};

/// Runs cells of a plan, in their order. A cell that fails has a reason; the others go on.
///
/// Forks: to be called where no other thread runs. @throws Error bad_argument for a unit that is not there or
/// a setting that it does not take, before any cell is run; write_failed and bad_input of the logbook.
[[nodiscard]] WAVICON_EXPORT std::vector<CellResult> run_cells(const Plan& plan,
                                                               const std::vector<Cell>& cells,
                                                               const BenchOptions& options);

/// How one limit of a plan stands in one cell.
struct CellLimit {
  std::size_t cell = 0;
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

/// The answer in a few lines, and a matrix for each measurement.
[[nodiscard]] WAVICON_EXPORT Page bench_page(const Plan& plan, const std::vector<CellResult>& results,
                                             const std::vector<CellLimit>& limits);
/// A test case for each cell and limit, as JUnit's XML.
[[nodiscard]] WAVICON_EXPORT std::string bench_junit(const Plan& plan, const std::vector<CellResult>& results,
                                                     const std::vector<CellLimit>& limits);

}  // namespace wavicon
