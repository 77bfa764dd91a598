// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <utility>

#include "commands.hpp"
#include "program.hpp"
#include "report.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/page_text.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/sheet/limit.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

std::atomic<bool> interrupt_asked{false};
int print_error = 0;  // of the first print() that did not arrive

std::string in_one_line(std::string text) {
  std::replace(text.begin(), text.end(), '\n', ' ');
  return text;
}

double now_s() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

bool holds(const Sheet& sheet, const std::string& name) {
  return std::any_of(sheet.readings.begin(), sheet.readings.end(),
                     [&](const Reading& r) { return r.name == name; });
}

bool is_svg(const std::string& file) { return fs::path(file).extension() == ".svg"; }

}  // namespace

std::size_t terminal_columns() {
  constexpr std::size_t kElsewhere = 100, kLeast = 60;
  winsize size{};
  if (isatty(STDOUT_FILENO) == 0 || ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0 || size.ws_col == 0)
    return kElsewhere;
  return std::max<std::size_t>(kLeast, size.ws_col);
}

void throw_if_interrupted() {
  // Installed with the first loop that asks: until then Ctrl-C ends the program as usual, as a second one
  // does.
  static const bool installed = [] {
    for (const int signal : {SIGINT, SIGTERM})
      std::signal(signal, [](int number) {
        if (interrupt_asked.exchange(true)) {
          abandon_partial_files();
          std::signal(number, SIG_DFL);
          std::raise(number);
        }
      });
    return true;
  }();
  if (installed && interrupt_asked) throw Interrupted{};
}

UnitSearch own_units() {
  std::error_code ignored;
  const fs::path program = fs::read_symlink("/proc/self/exe", ignored).parent_path();
  return {{program / "../lv2", program / ".." / WAVICON_LIBDIR / "wavicon/lv2"}};
}

Progress::Progress(std::string what, bool quiet)
    : what_(std::move(what)),
      wanted_(!quiet && isatty(STDERR_FILENO) != 0),
      start_s_(now_s()),
      last_s_(start_s_) {
  throw_if_interrupted();
}

Progress::~Progress() { end(); }

void Progress::end() {
  const std::lock_guard lock(mutex_);
  if (std::exchange(shown_, false)) std::fprintf(stderr, "\r\033[K");
  wanted_ = false;
}

void Progress::operator()(double part) {
  throw_if_interrupted();
  if (!wanted_) return;
  const std::lock_guard lock(mutex_);
  show(what_, part, start_s_, 0);
}

void Progress::counted(std::size_t done, std::size_t failed, std::size_t all) {
  throw_if_interrupted();
  if (!wanted_) return;
  const std::lock_guard lock(mutex_);
  show(fmt::format("{}: {} of {} cells{},", what_, done + failed, all,
                   failed > 0 ? fmt::format(", {} failed", failed) : ""),
       static_cast<double>(done + failed) / static_cast<double>(std::max<std::size_t>(1, all)), start_s_, 0);
}

void Progress::reading(const std::string& file, double part) {
  throw_if_interrupted();
  if (!wanted_) return;
  constexpr double kGoneS = 0.5;       // without a word: another file has the line
  constexpr double kBackwards = 0.02;  // of the file: it is read once more
  const std::lock_guard lock(mutex_);
  const double now = now_s();
  if (file != file_ && now - file_s_ < kGoneS) return;
  if (file != file_ || part < last_part_ - kBackwards) {
    pass_s_ = now;
    pass_part_ = part;
  }
  file_ = file;
  file_s_ = now;
  last_part_ = part;
  // One line: what is longer than most terminals have room for goes without its name.
  constexpr std::size_t kLongestName = 48;
  const std::string name = fs::path(file).filename().string();
  show(name.size() > kLongestName ? what_ : what_ + " " + name, part, pass_s_, pass_part_);
}

void Progress::show(const std::string& what, double part, double since_s, double since_part) {
  const double now = now_s();
  if (now - start_s_ < 1.0 || now - last_s_ < 0.1) return;
  constexpr double kToTell = 0.05;  // of it has to be done before what is left can be told
  std::string line = fmt::format("{} {:3.0f} %", what, 100 * part);
  if (part - since_part > kToTell)
    line += fmt::format(", {:.0f} s left", (now - since_s) * (1 - part) / (part - since_part));
  std::fprintf(stderr, "\r%s\033[K", printable(line).c_str());
  std::fflush(stderr);
  shown_ = true;
  last_s_ = now;
}

void print(const std::string& text) {
  if (std::fputs(printable(text, true).c_str(), stdout) < 0 && print_error == 0) print_error = errno;
}

void tell(const std::string& line) { std::fputs((printable(in_one_line(line)) + "\n").c_str(), stderr); }

int output_error() {
  if (std::fflush(stdout) != 0 && print_error == 0) print_error = errno;
  if (std::ferror(stdout) != 0 && print_error == 0) print_error = EIO;
  return print_error;
}

void say(bool quiet, const std::string& line) {
  if (!quiet) print(answer_text(line, {.columns = terminal_columns()}));
}

void warn(bool quiet, const std::string& line) {
  if (!quiet) tell("wavicon: warning: " + line);
}

void require_different(const std::vector<double>& rates_hz, const char* option) {
  for (std::size_t i = 0; i < rates_hz.size(); ++i)
    if (std::find(rates_hz.begin(), rates_hz.begin() + static_cast<std::ptrdiff_t>(i), rates_hz[i]) !=
        rates_hz.begin() + static_cast<std::ptrdiff_t>(i))
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{}: {:g} Hz is given twice; one file would take the place of the other",
                              option, rates_hz[i]));
}

void FormatOptions::add_to(CLI::App& app) {
  app.add_option("--bits", bits, "16, 24, or 32 for 32-bit float")->check(CLI::IsMember({16, 24, 32}));
  auto* on = app.add_flag("--dither", dither, "add TPDF dither (16 and 24 bits; on by default for 16)");
  app.add_flag("--no-dither", no_dither, "add no dither")->excludes(on);
  app.add_option("--seed", seed, "seed of the dither")->capture_default_str();
}

SampleFormat FormatOptions::format(SampleFormat otherwise) const {
  if (!bits) return otherwise;
  return *bits == 16 ? SampleFormat::pcm16 : *bits == 24 ? SampleFormat::pcm24 : SampleFormat::float32;
}

bool FormatOptions::dithers(SampleFormat format) const {
  return is_integer(format) && !no_dither && (dither || format == SampleFormat::pcm16);
}

CLI::App* find_command(CLI::App& app, std::string_view name) {
  for (CLI::App* command : app.get_subcommands(nullptr))
    if (command->get_name() == name) return command;
  return nullptr;
}

void SheetOptions::add_to(CLI::App& app, bool draws) {
  if (against)
    app.add_option("FILES", captures,
                   of_one_file ? "A, and what is measured against it: one B or several; or one file with both"
                               : "A, and what is measured against it: one B or several")
        ->required()
        ->expected(of_one_file ? 1 : 2, 64);
  else
    app.add_option("CAPTURE", captures, "audio files to measure")->required();
  app.add_option("--channel", channel, "measure this channel only, from 1")->check(CLI::PositiveNumber);
  app.add_option("--from", from_s, "start of the stretch to measure, in seconds");
  app.add_option("--to", to_s, "end of the stretch to measure, in seconds");
  app.add_flag("--json", json, "print the sheet as JSON instead of the table");
  app.add_option("--sheet", sheet_file, "write the sheet as JSON to a file");
  app.add_option("--csv", csv_file, "write the readings as CSV to a file");
  report.add_to(app, false);
  if (has_sounds)
    app.add_flag("--listen", listen,
                 "put ten seconds of what was compared, and of what is left, on the page");
  if (draws) {
    app.add_option("--plot", plot_file, "draw the picture, .png or .svg");
    app.add_option("--span", plot_span, "FROM TO of the picture's horizontal axis")
        ->expected(2)
        ->delimiter(',');
    app.add_option("--range", plot_range, "FROM TO of its vertical axis")->expected(2)->delimiter(',');
    app.add_option("--size", plot_size, "WIDTHxHEIGHT of the picture in pixels (1280x800)");
    app.add_flag("--dark", plot_dark, "draw on dark paper");
  }
  app.add_option(
         "--limit", limits,
         "NAME<VALUE (or <=, >, >=): exit 1 when a reading does not keep it; repeatable; VALUE may be "
         "last, first, best or a label of the logbook, +0.3 more")
      ->allow_extra_args(false);
  keep.add_to(app);
  app.add_option("--rms-reference", rms_reference, "what reads 0 dBFS RMS: a full-scale 'square' or 'sine'")
      ->check(CLI::IsMember({"square", "sine"}))
      ->capture_default_str();
  app.add_flag("--all", all,
               "every reading by its name, with floor and conditions; of several captures beside each other");
  app.add_option("--colour", colour, "colour and bold: never, always, or on a terminal (auto)")
      ->check(CLI::IsMember({"never", "auto", "always"}))
      ->capture_default_str();
  app.add_option("--jobs", jobs,
                 "threads to use; the figures do not change (default: as many as there are cores)")
      ->check(CLI::PositiveNumber);
  app.add_flag("--quiet", quiet, "print nothing but errors");
  app.add_flag("--verbose", verbose, "say what each file is and how long it took, on standard error");
}

namespace {}  // namespace

void require_known(const Limit& limit, const std::vector<std::string>& readings) {
  if (readings.empty()) return;
  ReadingTable names;
  for (const std::string& name : readings) names.entries.push_back({.name = name});
  if (find_entry(names, limit.name) == nullptr)
    throw Error(ErrorCode::bad_argument, fmt::format("limit '{}': there is no reading '{}'{}", limit.text,
                                                     limit.name, name_hint(limit.name, readings)));
}

namespace {

std::vector<LimitResult> checked_limits(const SheetOptions& options, const std::vector<Sheet>& sheets) {
  std::vector<LimitResult> results;
  const PastValues past = past_values(options.keep);
  for (const std::string& text : options.limits)
    for (const Sheet& sheet : sheets) {
      // What sums up other sheets has readings of its own.
      if (sheets.size() > 1 && !holds(sheet, parse_limit(text).name) &&
          holds(sheets.front(), parse_limit(text).name))
        continue;
      const auto checked = check_limit(parse_limit(text), sheet, past);
      results.insert(results.end(), checked.begin(), checked.end());
    }
  return results;
}

std::optional<std::array<double, 2>> axis_range(const std::vector<double>& values, const char* option) {
  if (values.empty()) return std::nullopt;
  if (values.size() != 2 || !(values[0] < values[1]))
    throw Error(ErrorCode::bad_argument,
                fmt::format("--{} takes the lower and the higher end of an axis", option));
  return std::array{values[0], values[1]};
}

PlotOptions plot_options(const SheetOptions& options) {
  PlotOptions plot{.format = is_svg(options.plot_file) ? PlotFormat::svg : PlotFormat::png};
  plot.dark = options.plot_dark;
  plot.x_range = axis_range(options.plot_span, "span");
  plot.y_range = axis_range(options.plot_range, "range");
  if (options.plot_size.empty()) return plot;
  constexpr int kLeastPx = 200, kMostPx = 8000;
  int taken = 0;
  if (std::sscanf(options.plot_size.c_str(), "%5dx%5d%n", &plot.width_px, &plot.height_px, &taken) != 2 ||
      static_cast<std::size_t>(taken) != options.plot_size.size() ||
      std::min(plot.width_px, plot.height_px) < kLeastPx || std::max(plot.width_px, plot.height_px) > kMostPx)
    throw Error(ErrorCode::bad_argument,
                fmt::format("--size {} is not WIDTHxHEIGHT in pixels, each from {} to {}", options.plot_size,
                            kLeastPx, kMostPx));
  return plot;
}

void write_picture(const SheetOptions& options, const Delivery& delivery) {
  const Picture& picture = *delivery.picture;
  write_text_file(options.plot_file, draw_picture(delivery.sheets, picture, plot_options(options)));
  if (const Drawable fits = drawable(delivery.sheets, picture); fits.there > fits.most)
    warn(options.quiet,
         fmt::format("{} shows the first {} of {} {}: --channel and fewer captures choose others",
                     options.plot_file, fits.most, fits.there, fits.what));
}

std::string without_line_end(std::string text) {
  if (!text.empty() && text.back() == '\n') text.pop_back();
  return text;
}

}  // namespace

// Colour where it was asked for, or on a terminal that does not say no (https://no-color.org: NO_COLOR, when
// it is not empty).
bool in_colour(const std::string& colour) {
  if (colour != "auto") return colour == "always";
  const char* none = std::getenv("NO_COLOR");
  const char* terminal = std::getenv("TERM");
  return isatty(STDOUT_FILENO) != 0 && (none == nullptr || *none == '\0') &&
         (terminal == nullptr || std::string(terminal) != "dumb");
}

namespace {

std::string table_of(const SheetOptions& options, const Delivery& delivery, const TableStyle& style) {
  const std::vector<Sheet>& sheets = delivery.sheets;
  if (options.all) {
    if (!delivery.rows && sheets.size() > 1) return comparison_table(sheets, style);
    std::string text;
    for (const Sheet& sheet : sheets) text += (text.empty() ? "" : "\n") + sheet_table(sheet, style);
    return text;
  }
  if (delivery.rows) return row_table(sheets, *delivery.rows, delivery.deciding, style);
  if (sheets.size() > 1 && !delivery.deciding.empty())
    return captures_table(sheets, delivery.headline, delivery.deciding, style);
  std::string text;
  for (const Sheet& sheet : sheets)
    text += capture_table(delivery.deciding.empty() ? folded(sheet) : sheet, delivery.deciding, style);
  return text;
}

void report_delivered(const SheetOptions& options, const Delivery& delivery,
                      const std::vector<LimitResult>& limits) {
  Report report{.limits = limits, .commands = {command_line()}};
  if (!delivery.answer.empty()) report.answer.push_back({delivery.answer});
  for (const std::string& line : delivery.comparison) report.answer.push_back({line});
  report.sections.push_back(report_section(delivery.sheets));
  ReportSection& section = report.sections.front();
  if (section.picture && delivery.picture) section.picture->picture = *delivery.picture;
  for (const Excerpt& sound : excerpts(delivery.sounds, delivery.one_timeline))
    section.sounds.push_back(
        {fmt::format(
             "{}, {:.1f} s from {:.1f} s on{}", sound.name, sound.seconds, sound.from_s,
             sound.louder_db != 0 ? fmt::format(", level changed by {:+.0f} dB", sound.louder_db) : ""),
         "audio/flac", sound.flac});
  write_report(std::move(report), options.report);
}

// What was made safe for a terminal, with its colours.
void print_drawn(const std::string& text, const TableStyle& style) {
  if (!style.colour)
    print(text);
  else if (std::fputs(text.c_str(), stdout) < 0 && print_error == 0)
    print_error = errno;
}

}  // namespace

void SheetOptions::check(const std::vector<std::string>& readings, const std::vector<std::string>& outputs,
                         const std::vector<std::string>& inputs) const {
  std::vector<fs::path> read(captures.begin(), captures.end()),
      written{sheet_file, csv_file, plot_file, report.file};
  for (const std::string& file : inputs)
    if (!file.empty()) read.emplace_back(file);
  written.insert(written.end(), outputs.begin(), outputs.end());
  for (const fs::path& file : written)
    if (!file.empty()) require_writable(file, read);
  require_apart(written);
  std::vector<Limit> parsed;
  for (const std::string& limit : limits) {
    parsed.push_back(parse_limit(limit));
    require_known(parsed.back(), readings);
  }
  keep.check(parsed);
  if (!report.wanted() && listen)
    throw Error(ErrorCode::bad_argument, "--listen is of the page: --report FILE writes it");
  if (plot_file.empty()) {
    if (plot_dark || !plot_size.empty() || !plot_span.empty() || !plot_range.empty())
      throw Error(ErrorCode::bad_argument,
                  "--span, --range, --size and --dark are of the picture: --plot FILE draws it");
    return;
  }
  (void)plot_options(*this);
  if (captures.size() > (against ? 2U : 1U) && !overlays)
    throw Error(ErrorCode::bad_argument, "--plot draws one capture at a time");
  if (!is_svg(plot_file) && fs::path(plot_file).extension() != ".png")
    throw Error(ErrorCode::bad_argument, plot_file + ": the ending says how to draw it: .png or .svg");
}

int deliver(const SheetOptions& options, const Delivery& delivery) {
  const std::vector<Sheet>& sheets = delivery.sheets;
  const auto results = checked_limits(options, sheets);
  if (!options.sheet_file.empty()) write_text_file(options.sheet_file, sheets_to_json(sheets));
  if (!options.csv_file.empty()) write_text_file(options.csv_file, sheets_to_csv(sheets));
  if (!options.plot_file.empty() && delivery.picture) write_picture(options, delivery);
  if (!options.report.file.empty()) report_delivered(options, delivery, results);
  if (options.json && !options.quiet) {
    print(sheets_to_json(sheets));
  } else if (!options.quiet) {
    const TableStyle style{.columns = terminal_columns(), .colour = in_colour(options.colour)};
    // What all of them together say comes first.
    if (!delivery.answer.empty()) print_drawn(answer_text(delivery.answer, style), style);
    for (const std::string& line : delivery.comparison) print_drawn(answer_text(line, style), style);
    print_drawn(table_of(options, delivery, style), style);
    if (!results.empty()) print_drawn("\n" + limit_lines(results, style), style);
  }
  // After the limits: what is kept now is not what they name.
  if (options.keep.keep) {
    const std::string line = kept(options.keep, sheets);
    if (options.json)
      tell("wavicon: " + line);
    else
      say(options.quiet, line);
  }
  bool all_kept = true;
  for (const LimitResult& result : results) {
    if (result.outcome == LimitResult::Outcome::kept) continue;
    all_kept = false;
    if (options.json) tell("wavicon: " + without_line_end(limit_lines({result})));
  }
  return all_kept ? exit_status::measured : exit_status::limit_not_kept;
}

void print_page(const Page& page, const std::string& colour) {
  const TableStyle style{.columns = terminal_columns(), .colour = in_colour(colour)};
  print_drawn(page_text(page, style), style);
}

void print_sheet(const Sheet& sheet, bool all, const std::string& colour) {
  const TableStyle style{.columns = terminal_columns(), .colour = in_colour(colour)};
  std::vector<std::string> deciding;
  for (const MeasurementDescriptor& m : measurements())
    if (m.name == sheet.measurement) deciding = m.deciding;
  print_drawn("\n" + (all                ? sheet_table(sheet, style)
                      : deciding.empty() ? capture_table(folded(sheet), deciding, style)
                                         : capture_table(sheet, deciding, style)),
              style);
}

Recipe read_measured_recipe(const std::string& file) {
  return read_recipe(file, [](const RecipePart& part) { return measure_problem(measurements(), part); });
}

}  // namespace wavicon::cli
