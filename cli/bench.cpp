// SPDX-License-Identifier: MIT
// A whole plan: cells fed and measured, judged by limits, remembered.

#include <fmt/format.h>

#include <memory>
#include <thread>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/run.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/file/text_file.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct BenchCommand {
  std::string plan, only, captures, junit, csv_file, sheet_file, store, colour = "auto";
  std::vector<std::string> tags;
  bool list = false, again = false, json = false, quiet = false;
  int jobs = 0;
};

Plan plan_of(const BenchCommand& command) {
  return parse_plan(read_text_file(command.plan, "plan"), command.plan, fs::path(command.plan).parent_path());
}

std::vector<Cell> cells_of(const BenchCommand& command, const Plan& plan) {
  auto cells = command.only.empty() ? cells_of(plan) : cells_of(plan, command.only);
  if (cells.empty())
    throw Error(ErrorCode::bad_argument, fmt::format("--only '{}' leaves no cell", command.only));
  return cells;
}

int run(const BenchCommand& command) {
  const Plan plan = plan_of(command);
  const auto cells = cells_of(command, plan);
  if (command.list) {
    std::string names;
    for (const Cell& cell : cells) names += name_of(cell) + "\n";
    say(command.quiet, fmt::format("{}: {} cell{}, {} measurement{} of each", plan.name, cells.size(),
                                   cells.size() == 1 ? "" : "s", plan.measures.size(),
                                   plan.measures.size() == 1 ? "" : "s"));
    if (!command.quiet) print(names);
    return exit_status::measured;
  }
  for (const std::string& file : {command.junit, command.csv_file, command.sheet_file})
    if (!file.empty()) require_writable(file, {command.plan});
  Logbook logbook(command.store.empty() ? usual_logbook() : command.store, Logbook::Access::keep);
  BenchOptions options{.logbook = &logbook, .again = command.again, .captures = command.captures};
  options.jobs =
      command.jobs > 0 ? command.jobs : static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
  options.units = own_units();
  for (const std::string& tag : command.tags) options.tags.push_back(parse_tag(tag));
  Progress progress(plan.name, command.quiet);
  options.progress = [&](std::size_t done, std::size_t failed) {
    throw_if_interrupted();
    progress(static_cast<double>(done + failed) / static_cast<double>(cells.size()));
  };
  const auto results = run_cells(plan, cells, options);
  progress.end();
  const auto limits = check_limits(plan, results, &logbook);
  const Page page = bench_page(plan, results, limits);
  if (!command.junit.empty()) write_text_file(command.junit, bench_junit(plan, results, limits));
  if (!command.csv_file.empty()) write_text_file(command.csv_file, page_to_csv(page));
  if (!command.sheet_file.empty()) {
    std::vector<Sheet> sheets;
    for (const CellResult& result : results)
      sheets.insert(sheets.end(), result.sheets.begin(), result.sheets.end());
    write_text_file(command.sheet_file, sheets_to_json(sheets));
  }
  if (!command.quiet && command.json)
    print(page_to_json(page));
  else if (!command.quiet)
    print_page(page, command.colour);
  for (const CellResult& result : results)
    if (result.state == CellResult::State::failed) return exit_status::unit_failed;
  for (const CellLimit& limit : limits)
    if (!limit.missing.empty()) return exit_status::bad_input;
  for (const CellLimit& limit : limits)
    if (limit.result.outcome != LimitResult::Outcome::kept) return exit_status::limit_not_kept;
  return exit_status::measured;
}

}  // namespace

void add_bench(CLI::App& app, Action& action) {
  auto* sub = app.add_subcommand("bench", "what does a whole plan say: every setting, measured and judged?");
  auto command = std::make_shared<BenchCommand>();
  sub->add_option("PLAN", command->plan, "the plan (docs/plans.md)")->required();
  sub->add_flag("--list", command->list, "show the cells, and run none");
  sub->add_option("--only", command->only, "ROW=VALUE: these cells alone; several with spaces between");
  sub->add_option("--jobs", command->jobs, "cells at once (default: as many as there are cores)")
      ->check(CLI::PositiveNumber);
  sub->add_flag("--again", command->again, "run what the logbook holds already, too");
  sub->add_option("--captures", command->captures, "folder for what came back (default: it is thrown away)");
  sub->add_option("--junit", command->junit, "write a test case for each cell and limit as JUnit's XML");
  sub->add_flag("--json", command->json, "print the matrices as JSON");
  sub->add_option("--csv", command->csv_file, "write the first table as CSV to a file");
  sub->add_option("--sheet", command->sheet_file, "write all sheets as JSON to a file");
  sub->add_option("--tag", command->tags, "KEY=VALUE to keep the sheets with; repeatable")
      ->allow_extra_args(false);
  sub->add_option("--logbook", command->store,
                  "the logbook: a file, or postgresql://USER@HOST/DATABASE (default: WAVICON_LOGBOOK, or the "
                  "user's own)");
  sub->add_option("--colour", command->colour, "colour and bold: never, always, or on a terminal (auto)")
      ->check(CLI::IsMember({"never", "auto", "always"}))
      ->capture_default_str();
  sub->add_flag("--quiet", command->quiet, "print nothing but errors");
  sub->callback([command, &action] { action = [command] { return run(*command); }; });
}

}  // namespace wavicon::cli
