// SPDX-License-Identifier: MIT
// A whole plan: cells fed and measured, judged by limits, remembered.

#include <fmt/format.h>

#include <memory>
#include <thread>

#include "commands.hpp"
#include "program.hpp"
#include "report.hpp"
#include "stimulus_file.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/run.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/file/text_file.hpp"
#include "wavicon/present/page_text.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct BenchCommand {
  std::string ready, only, enough, over, share, save, stimulus;
  std::string captures, junit, csv_file, sheet_file, plot_file, store, colour = "auto";
  std::vector<std::string> given, tags;
  ReportOptions report;
  bool plans = false, list = false, again = false, json = false, quiet = false, plot_dark = false;
  int jobs = 0;
};

// What a ready plan names stays where it is, wherever the plan is written.
std::string text_of(const BenchCommand& command, const fs::path& folder) {
  if (command.ready.empty()) return read_text_file(command.given.front(), "plan");
  return ready_plan_text(command.ready, command.given, [&](const std::string& file) {
    return fs::path(file).is_absolute() ? file : fs::relative(file, folder.empty() ? "." : folder).string();
  });
}

Plan plan_of(const BenchCommand& command) {
  const bool own = command.ready.empty();
  const std::string source = own ? command.given.front() : "plan " + command.ready;
  Plan plan = parse_plan(text_of(command, ""), source, own ? fs::path(source).parent_path() : fs::path());
  if (!command.enough.empty()) plan.enough = command.enough;
  if (!command.over.empty()) plan.over = command.over;
  return plan;
}

std::vector<Cell> cells_of(const BenchCommand& command, const Plan& plan) {
  auto cells = command.only.empty() ? cells_of(plan) : cells_of(plan, command.only);
  if (cells.empty())
    throw Error(ErrorCode::bad_argument, fmt::format("--only '{}' leaves no cell", command.only));
  return cells;
}

// "2/8".
void take_share(const std::string& text, BenchOptions& options) {
  if (text.empty()) return;
  unsigned own = 0, all = 0;
  int taken = 0;
  if (std::sscanf(text.c_str(), "%6u/%6u%n", &own, &all, &taken) != 2 ||
      static_cast<std::size_t>(taken) != text.size() || own < 1 || own > all)
    throw Error(ErrorCode::bad_argument, fmt::format("--share {} is not I/N, for example 2/8", text));
  options.share = own;
  options.shares = all;
}

int list_plans(const BenchCommand& command) {
  PageTable table{.key = "plans", .columns = {{"plan", "plan"}, {"question", "answers"}, {"takes", "takes"}}};
  for (const ReadyPlan& plan : ready_plans())
    table.rows.push_back({plan.name, plan.question, plan.takes.substr(0, plan.takes.find(':'))});
  Page page;
  page.tables.push_back(std::move(table));
  if (command.json)
    print(page_to_json(page));
  else
    print_page(page, command.colour);
  return exit_status::measured;
}

int save(const BenchCommand& command) {
  if (command.ready.empty()) throw Error(ErrorCode::bad_argument, "--save is of a ready plan: --plan NAME");
  require_writable(command.save, {});
  const std::string text = text_of(command, fs::path(command.save).parent_path());
  const Plan plan = parse_plan(text, command.save, fs::path(command.save).parent_path());
  write_text_file(command.save, text);
  say(command.quiet, fmt::format("{}: the plan '{}' with {} cells; wavicon bench {} runs it", command.save,
                                 plan.name, cells_of(plan).size(), command.save));
  return exit_status::measured;
}

// What is to be played to what has no plugin: captures of it are given to the plan later.
int write_played(const BenchCommand& command) {
  const std::vector<std::string> none = {"capture.wav"};
  BenchCommand of = command;
  if (!command.ready.empty() && command.given.empty()) of.given = none;
  const Plan plan = plan_of(of);
  require_writable(command.stimulus, {});
  write_stimulus(recipe_of(plan, cells_of(of, plan).front()), command.stimulus, command.quiet);
  return exit_status::measured;
}

int list_cells(const BenchCommand& command, const Plan& plan, const std::vector<Cell>& cells,
               const BenchOptions& options) {
  const BenchEstimate estimate = estimated(plan, cells, options);
  std::string head = fmt::format("{}: {} cell{}", plan.name, cells.size(), cells.size() == 1 ? "" : "s");
  if (estimate.runs + estimate.known != cells.size())
    head += fmt::format(", {} to run", estimate.runs + estimate.known);
  if (estimate.known > 0) head += fmt::format(", {} of them known", estimate.known);
  if (estimate.seconds > 0)
    head += fmt::format("; about {:.0f} s as earlier ones went, {} at once", estimate.seconds / options.jobs,
                        options.jobs);
  else if (estimate.sound_s > 0)
    head += fmt::format("; {:.0f} s of sound, nothing of it was run yet", estimate.sound_s);
  say(command.quiet, head);
  std::string names;
  for (const Cell& cell : cells) names += name_of(cell) + "\n";
  if (!command.quiet) print(names);
  return exit_status::measured;
}

void draw(const BenchCommand& command, const Plan& plan, const std::vector<CellResult>& results,
          const Page& page) {
  const fs::path file(command.plot_file);
  const auto pictures = bench_pictures(plan, results);
  if (pictures.empty()) throw Error(ErrorCode::bad_argument, "--plot: one cell alone, or no figure to draw");
  for (const BenchPicture& picture : pictures) {
    Picture titled = picture.picture;
    if (pictures.size() == 1) titled.answer = page_title(page);
    fs::path own = file;
    if (pictures.size() > 1)
      own.replace_filename(file.stem().string() + "-" + picture.measurement + file.extension().string());
    write_text_file(own.string(),
                    draw_picture(picture.drawn, titled,
                                 {.format = file.extension() == ".svg" ? PlotFormat::svg : PlotFormat::png,
                                  .dark = command.plot_dark}));
  }
}

// A section for each measurement: its picture over a row, its matrix, what its sheets say.
void report(const BenchCommand& command, const Plan& plan, const std::vector<CellResult>& results,
            const std::vector<CellLimit>& limits, const Page& page) {
  Report made{
      .title = plan.name, .answer = page.answer, .commands = {command_line()}, .remarks = page.remarks};
  for (const CellLimit& limit : limits) {
    made.limits.push_back(limit.result);
    made.limits.back().file = name_of(results[limit.cell]);
  }
  const auto pictures = bench_pictures(plan, results);
  for (const PageTable& table : page.tables) {
    if (table.rows.empty() || table.key == "not_kept") continue;
    ReportSection section{.title = table.title.empty() ? table.key : table.title,
                          .tables = {table},
                          .sheets = sheets_of_table(plan, results, table.key)};
    for (const BenchPicture& picture : pictures)
      if (picture.key == table.key)
        section.picture = ReportPicture{picture.drawn, picture.picture, picture.picture.style.title};
    made.sections.push_back(std::move(section));
  }
  write_report(std::move(made), command.report);
}

int status_of(const std::vector<CellResult>& results, const std::vector<CellLimit>& limits) {
  for (const CellResult& result : results)
    if (result.state == CellResult::State::failed) return exit_status::unit_failed;
  for (const CellLimit& limit : limits)
    if (!limit.missing.empty()) return exit_status::bad_input;
  for (const CellLimit& limit : limits)
    if (limit.result.outcome != LimitResult::Outcome::kept) return exit_status::limit_not_kept;
  return exit_status::measured;
}

void check(const BenchCommand& command) {
  (void)command.report.wanted();
  if (command.ready.empty() && command.given.size() != 1)
    throw Error(ErrorCode::bad_argument,
                command.given.empty() ? "bench: which plan? a file, or --plan NAME; --plans lists those"
                                      : "bench: one plan at a time; --plan NAME takes units and files");
  std::vector<fs::path> read;
  for (const std::string& given : command.given)
    if (fs::exists(given)) read.emplace_back(given);
  for (const std::string& file :
       {command.junit, command.csv_file, command.sheet_file, command.plot_file, command.report.file})
    if (!file.empty()) require_writable(file, read);
  const std::string ending = fs::path(command.plot_file).extension().string();
  if (!command.plot_file.empty() && ending != ".png" && ending != ".svg")
    throw Error(ErrorCode::bad_argument,
                command.plot_file + ": the ending says how to draw it: .png or .svg");
}

int run(const BenchCommand& command) {
  if (command.plans) return list_plans(command);
  check(command);
  if (!command.save.empty()) return save(command);
  if (!command.stimulus.empty()) return write_played(command);
  const Plan plan = plan_of(command);
  const auto cells = cells_of(command, plan);
  BenchOptions options{.again = command.again, .captures = command.captures};
  take_share(command.share, options);
  options.jobs =
      command.jobs > 0 ? command.jobs : static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
  options.units = own_units();
  const std::string store = command.store.empty() ? usual_logbook() : command.store;
  if (command.list) {
    std::optional<Logbook> known;
    if (store.find("://") != std::string::npos || fs::exists(store)) options.logbook = &known.emplace(store);
    return list_cells(command, plan, cells, options);
  }
  for (const std::string& tag : command.tags) options.tags.push_back(parse_tag(tag));
  Logbook logbook(store, Logbook::Access::keep);
  options.logbook = &logbook;
  Progress progress(plan.name, command.quiet);
  options.progress = [&](std::size_t done, std::size_t failed, std::size_t all) {
    progress.counted(done, failed, all);
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
  if (!command.plot_file.empty()) draw(command, plan, results, page);
  if (!command.report.file.empty()) report(command, plan, results, limits, page);
  if (!command.quiet && command.json)
    print(page_to_json(page));
  else if (!command.quiet)
    print_page(page, command.colour);
  return status_of(results, limits);
}

}  // namespace

void add_bench(CLI::App& app, Action& action) {
  auto* sub = app.add_subcommand("bench", "what does a whole plan say: every setting, measured and judged?");
  auto command = std::make_shared<BenchCommand>();
  sub->add_option("PLAN", command->given, "the plan (docs/plans.md); with --plan: units, or captures");
  sub->add_option("--plan", command->ready, "a ready plan, of the units or captures that follow");
  sub->add_flag("--plans", command->plans, "list the ready plans");
  sub->add_option("--save", command->save, "write the ready plan to a file, to be changed, and run nothing");
  sub->add_option("--stimulus", command->stimulus, "write what is played to a file, and run nothing");
  sub->add_flag("--list", command->list, "show the cells and how long they may take, and run none");
  sub->add_option("--only", command->only, "ROW=VALUE: these cells alone; several with spaces between");
  sub->add_option("--share", command->share, "I/N: the I-th of N shares of the cells, for several machines");
  sub->add_option("--enough", command->enough, "ROW: say from which of its values on all limits are kept");
  sub->add_option("--jobs", command->jobs, "cells at once (default: as many as there are cores)")
      ->check(CLI::PositiveNumber);
  sub->add_flag("--again", command->again, "run what the logbook holds already, too");
  sub->add_option("--captures", command->captures, "folder for what came back (default: it is thrown away)");
  sub->add_option("--plot", command->plot_file,
                  "draw each measurement over a row, .png or .svg; of several each beside it by its name");
  sub->add_option("--over", command->over, "ROW that --plot draws over (default: that with most numbers)");
  sub->add_flag("--dark", command->plot_dark, "draw on dark paper");
  command->report.add_to(*sub, false);
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
