// SPDX-License-Identifier: MIT
#include "wavicon/bench/run.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "bench/cell_pool.hpp"
#include "bench/cell_tags.hpp"
#include "bench/cell_work.hpp"
#include "bench/plan_names.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr std::size_t kWholeSheets = 1000;  // more known cells than that are read without their curves
constexpr std::size_t kMostTimes = 21;      // entries whose time tells how long others will take

// What a run is known by: all that its figures depend on.
class Identities {
 public:
  Identities(const Plan& plan, ChainIdentities& chains) : plan_(plan), chains_(chains) {}

  [[nodiscard]] std::string of(const CellRun& run) {
    std::string text = fmt::format("{}", kArithmetic);
    for (const PlanMeasure& measure : run.measures) {
      text += fmt::format("\n{} {} {}{}", measure.name, measure.part, measure.channel,
                          measure.despite_faults ? " despite faults" : "");
      for (const auto& [key, value] : measure.options) text += fmt::format(" {}={}", key, value);
    }
    if (!run.together) text += of(run.cell);
    for (const Cell& other : run.others) text += "\nbeside" + of(other);
    return digest_of(text);
  }

 private:
  [[nodiscard]] std::string of(const Cell& cell) {
    if (!cell.capture.empty())
      return fmt::format("\ncapture {}{}", of_file(plan_.folder / cell.capture), played(cell));
    std::string text = fmt::format("{}\n{:.17g} {}", played(cell), cell.rate_hz, cell.block_frames);
    for (const std::string& unit : chains_.of(cell)) text += "\n" + unit;
    // The same once more is another one.
    for (const auto& [row, value] : cell.values)
      if (row == kRepeat) text += "\nrepeat " + value;
    return text;
  }
  [[nodiscard]] std::string played(const Cell& cell) {
    if (!plan_.play.file.empty())
      return "\nfile " + of_file(plan_.folder / filled(plan_, cell, plan_.play.file));
    if (!plan_.play.known()) return "";
    const bool same = plan_.play.recipe_file.empty() && plan_.play.recipe.find('{') == std::string::npos;
    if (same) return "\n" + plan_.play.recipe;
    return "\n" + recipe_text(recipe_of(plan_, cell));
  }
  [[nodiscard]] const std::string& of_file(const std::filesystem::path& path) {
    std::string& digest = files_[path.string()];
    if (digest.empty()) digest = digest_of_file(path);
    return digest;
  }

  const Plan& plan_;
  ChainIdentities& chains_;
  std::map<std::string, std::string> files_;
};

EntryNotes notes_of(const Plan& plan, const CellResult& result, const BenchOptions& options,
                    std::int64_t now_s) {
  EntryNotes notes{.tags = tags_of(plan, result.run)};
  notes.tags.insert(notes.tags.end(), options.tags.begin(), options.tags.end());
  notes.tags.emplace_back(kCellTag, result.known_by);
  if (options.again) notes.tags.emplace_back(kAgainTag, time_text(now_s));
  return notes;
}

// What the logbook holds of cells, each by its last run.
class KnownCells {
 public:
  explicit KnownCells(const Logbook& logbook)
      : logbook_(logbook), entries_(logbook.entries_by_tag(kCellTag)) {
    for (const auto& [when, ids] : logbook.entries_by_tag(kAgainTag))
      for (const std::int64_t id : ids) run_[id] = when;
  }
  [[nodiscard]] bool holds(const std::string& cell) const { return entries_.count(cell) > 0; }
  /// @param whole  with curves and findings, too. Empty: it is not known.
  [[nodiscard]] std::vector<Sheet> sheets_of(const std::string& cell, bool whole) const {
    std::vector<Sheet> sheets;
    const auto found = entries_.find(cell);
    if (found == entries_.end()) return sheets;
    std::string last;
    for (const std::int64_t id : found->second) last = std::max(last, run_of(id));
    for (const std::int64_t id : found->second)
      if (run_of(id) == last) sheets.push_back(whole ? logbook_.sheet(id) : logbook_.figures(id));
    return sheets;
  }

 private:
  [[nodiscard]] std::string run_of(std::int64_t id) const {
    const auto found = run_.find(id);
    return found == run_.end() ? "" : found->second;
  }

  const Logbook& logbook_;
  std::map<std::string, std::vector<std::int64_t>> entries_;
  std::map<std::int64_t, std::string> run_;
};

bool takes_an_interface(const CellRun& run) {
  return is_live(run.cell) || std::any_of(run.others.begin(), run.others.end(), is_live);
}

std::vector<CellRun> shared(std::vector<CellRun> runs, const BenchOptions& options) {
  if (options.share < 1 || options.share > options.shares)
    throw Error(ErrorCode::bad_argument, fmt::format("share {} of {} is none of 1 to {}", options.share,
                                                     options.shares, options.shares));
  if (options.shares == 1) return runs;
  std::vector<CellRun> own;
  for (std::size_t i = options.share - 1; i < runs.size(); i += options.shares)
    own.push_back(std::move(runs[i]));
  return own;
}

double seconds_of(const Recipe& recipe) {
  return static_cast<double>(Stimulus(recipe).frames()) / recipe.sample_rate_hz;
}

// Runs what is left, several at once, and keeps each when it is there.
class PlanRun {
 public:
  PlanRun(const Plan& plan, const BenchOptions& options, ChainIdentities& chains,
          std::vector<CellResult>& results, std::int64_t now_s)
      : plan_(plan), options_(options), chains_(chains), results_(results), now_s_(now_s) {}

  void run(const std::vector<std::size_t>& left, std::size_t done) {
    done_ = done;
    for (std::size_t next = 0; next < left.size() || pool_.size() > 0;) {
      tell();
      if (next < left.size() && pool_.size() < room(results_[left[next]].run)) {
        const std::size_t i = left[next++];
        alone_ = takes_an_interface(results_[i].run);
        pool_.start(i, [&, i] {
          return sheets_to_json(CellWork(plan_, results_[i].run, options_, chains_).sheets());
        });
        continue;
      }
      std::string reason;
      const auto ended = pool_.take(reason);
      if (!ended) continue;
      alone_ = false;
      take(*ended, reason);
    }
    tell();
  }

 private:
  void tell() const {
    if (options_.progress) options_.progress(done_, failed_, results_.size());
  }
  // What goes through an interface has it for itself.
  [[nodiscard]] std::size_t room(const CellRun& next) const {
    return alone_ || takes_an_interface(next) ? 1 : static_cast<std::size_t>(std::max(1, options_.jobs));
  }
  void take(const Worker& ended, const std::string& reason) {
    CellResult& result = results_[ended.index];
    result.seconds = clock_s() - ended.started_s;
    if (!reason.empty()) {
      result.reason = reason;
      ++failed_;
      return;
    }
    result.sheets = sheets_from_json(ended.said, name_of(result));
    for (Sheet& sheet : result.sheets) {
      link_entries(sheet);
      if (sheet.context) sheet.context->took_s = result.seconds;
    }
    result.state = CellResult::State::measured;
    ++done_;
    if (options_.logbook != nullptr)
      (void)options_.logbook->keep(result.sheets, notes_of(plan_, result, options_, now_s_));
  }

  const Plan& plan_;
  const BenchOptions& options_;
  ChainIdentities& chains_;
  std::vector<CellResult>& results_;
  std::int64_t now_s_;
  CellPool pool_;
  std::size_t done_ = 0, failed_ = 0;
  bool alone_ = false;
};

}  // namespace

std::vector<CellResult> run_cells(const Plan& plan, const std::vector<Cell>& cells,
                                  const BenchOptions& options) {
  // What is mistyped, and what cannot be kept, is found before the first cell is fed.
  ChainIdentities chains(options.units);
  Identities identities(plan, chains);
  const std::int64_t now_s = current_time_s();
  std::vector<CellRun> runs = shared(runs_of(plan, cells), options);
  std::vector<CellResult> results(runs.size());
  for (std::size_t i = 0; i < runs.size(); ++i) {
    results[i].run = std::move(runs[i]);
    results[i].known_by = identities.of(results[i].run);
    if (options.logbook != nullptr) require_notes(notes_of(plan, results[i], options, now_s));
  }
  if (!options.captures.empty()) make_folder(options.captures);
  std::vector<std::size_t> left;
  std::size_t done = 0;
  std::optional<KnownCells> known;
  if (options.logbook != nullptr && !options.again) known.emplace(*options.logbook);
  for (std::size_t i = 0; i < results.size(); ++i) {
    // What an interface gave yesterday says nothing of today, and no capture is in the logbook.
    if (known && options.captures.empty() && !takes_an_interface(results[i].run))
      results[i].sheets = known->sheets_of(results[i].known_by, results.size() <= kWholeSheets);
    if (results[i].sheets.empty()) {
      left.push_back(i);
      continue;
    }
    for (Sheet& sheet : results[i].sheets) sheet.capture.file = name_of(results[i]);
    results[i].state = CellResult::State::known;
    ++done;
  }
  PlanRun(plan, options, chains, results, now_s).run(left, done);
  const auto changed = chains.changed();
  for (const std::size_t i : left)
    for (const std::string& unit : changed)
      if (std::find(results[i].run.cell.chain.begin(), results[i].run.cell.chain.end(), unit) !=
          results[i].run.cell.chain.end())
        results[i].doubt = fmt::format(
            "{} was changed while the plan ran: which of the two was measured is not known; --again", unit);
  return results;
}

BenchEstimate estimated(const Plan& plan, const std::vector<Cell>& cells, const BenchOptions& options) {
  BenchEstimate estimate;
  ChainIdentities chains(options.units);
  Identities identities(plan, chains);
  const auto runs = shared(runs_of(plan, cells), options);
  std::optional<KnownCells> known;
  if (options.logbook != nullptr && !options.again) known.emplace(*options.logbook);
  for (const CellRun& run : runs)
    if (known && !takes_an_interface(run) && known->holds(identities.of(run)))
      ++estimate.known;
    else
      ++estimate.runs;
  if (plan.play.file.empty() && plan.play.known() && plan.captures.empty())
    estimate.sound_s = static_cast<double>(estimate.runs) * seconds_of(recipe_of(plan, cells.front()));
  if (options.logbook == nullptr || estimate.runs == 0) return estimate;
  // The middle of what the last cells of this plan took.
  std::vector<double> took;
  for (const LogbookEntry& entry : options.logbook->entries({.tags = {{kPlanTag, plan.name}}}, kMostTimes)) {
    const Sheet sheet = options.logbook->sheet(entry.id);
    if (sheet.context && sheet.context->took_s > 0) took.push_back(sheet.context->took_s);
  }
  if (took.empty()) return estimate;
  const auto middle = took.begin() + static_cast<std::ptrdiff_t>(took.size() / 2);
  std::nth_element(took.begin(), middle, took.end());
  estimate.seconds = static_cast<double>(estimate.runs) * *middle;
  return estimate;
}

}  // namespace wavicon
