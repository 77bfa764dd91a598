// SPDX-License-Identifier: MIT
#pragma once
// The program's commands: each adds its options to the parser and says what to run. Arguments to calls,
// results to text, no arithmetic.

#include <CLI/CLI.hpp>
#include <filesystem>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "keeping.hpp"
#include "report_options.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/excerpts.hpp"
#include "wavicon/path/unit.hpp"
#include "wavicon/sheet/page.hpp"
#include "wavicon/sheet/picture.hpp"
#include "wavicon/sheet/row_layout.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
struct MeasurementDescriptor;
}

namespace wavicon::cli {

namespace exit_status {
inline constexpr int measured = 0;
inline constexpr int limit_not_kept = 1;
inline constexpr int wrong_usage = 2;
inline constexpr int bad_input = 3;
inline constexpr int unit_failed = 4;
inline constexpr int interrupted = 130;
inline constexpr int pipe_closed = 141;  ///< who read standard output stopped reading
}  // namespace exit_status

/// Thrown out of long loops after Ctrl-C; what was being written goes with it.
struct Interrupted {};
void throw_if_interrupted();

/// What a command runs; returns the exit status.
using Action = std::function<int()>;

/// The bundles that were built or installed beside this program.
UnitSearch own_units();

/// One line on standard error while something takes longer than a second; nothing when that is no terminal or
/// `quiet`. For any thread.
class Progress {
 public:
  Progress(std::string what, bool quiet);
  ~Progress();
  Progress(const Progress&) = delete;
  Progress& operator=(const Progress&) = delete;
  /// @throws Interrupted when that was asked for.
  void operator()(double part);
  /// How many of several are done, and how many of these went wrong.
  void counted(std::size_t done, std::size_t failed, std::size_t all);
  /// How far a file was read, once or several times over; of several at once one is shown.
  void reading(const std::string& file, double part);
  /// Nothing more is to come: the line goes before anything is printed.
  void end();

 private:
  void show(const std::string& what, double part, double since_s, double since_part);

  std::mutex mutex_;
  std::string file_;
  double file_s_ = 0;                                  // when it was heard of last
  double pass_s_ = 0, pass_part_ = 0, last_part_ = 1;  // of one time over
  std::string what_;
  bool wanted_;
  bool shown_ = false;
  double start_s_;
  double last_s_;
};

/// Prints to standard output, fit for a terminal; what fails is kept for output_error().
void print(const std::string& text);
/// Columns of the terminal that is printed to; 100 for anything else.
std::size_t terminal_columns();
/// Prints a line to standard error, fit for a terminal.
void tell(const std::string& line);
/// Error number of the first print() that did not arrive, all of them flushed; 0 when all did.
int output_error();

/// Prints a line to standard output unless quiet.
void say(bool quiet, const std::string& line);
/// Prints "wavicon: warning: …" to standard error unless quiet.
void warn(bool quiet, const std::string& line);

/// How an audio file is to be written; the options --bits, --dither, --no-dither, --seed.
struct FormatOptions {
  std::optional<int> bits;
  bool dither = false;
  bool no_dither = false;
  std::uint64_t seed = 1;
  void add_to(CLI::App& app);
  /// --bits 16, 24 or 32 (float). @param otherwise  when no --bits is given.
  [[nodiscard]] SampleFormat format(SampleFormat otherwise) const;
  /// On by default for 16 bits only.
  [[nodiscard]] bool dithers(SampleFormat format) const;
};

/// What measuring commands share: what is read of the captures and what is done with the sheets.
struct SheetOptions {
  int jobs = 0;  // threads; 0: as many as there are cores
  std::vector<std::string> captures;
  std::optional<int> channel;
  double from_s = 0;
  std::optional<double> to_s;
  bool json = false;
  std::string sheet_file;
  std::string csv_file;
  std::string plot_file;
  ReportOptions report;
  bool listen = false;                        ///< sounds on the page
  bool has_sounds = false;                    ///< the command makes audio on the way
  std::vector<double> plot_span, plot_range;  ///< of the axes
  std::string plot_size;
  bool plot_dark = false;
  std::vector<std::string> limits;
  KeepOptions keep;
  std::string rms_reference = "square";
  bool quiet = false;
  bool verbose = false;
  bool all = false;  ///< every reading by its name
  std::string colour = "auto";
  bool overlays = false;     ///< --plot lays several captures over each other
  bool against = false;      ///< the first file is what the others are measured against
  bool of_one_file = false;  ///< the first file may hold both
  /// @param draws  whether the command has a picture.
  void add_to(CLI::App& app, bool draws = true);
  /// Every file that could not be written and every limit that no reading has is found before anything is
  /// measured.
  /// @param readings  names that the sheets can hold, patterns among them; empty: not known.
  /// @param outputs   further files that the command writes. @param inputs  and reads, besides the captures.
  void check(const std::vector<std::string>& readings = {}, const std::vector<std::string>& outputs = {},
             const std::vector<std::string>& inputs = {}) const;
};

/// What a command hands over to be printed and written.
struct Delivery {
  const std::vector<Sheet>& sheets;
  std::optional<Picture> picture;       ///< what --plot draws
  std::optional<RowLayout> rows;        ///< how the table is laid out; none: a column for each sheet
  std::string answer;                   ///< above the table, before everything else
  std::vector<std::string> comparison;  ///< sentences under the table
  std::vector<std::string> headline;    ///< readings that tell captures apart at a glance
  std::vector<std::string> deciding;    ///< readings that answer for one capture; empty: its sentences do
  std::vector<ExcerptSource> sounds;    ///< for a page
  bool one_timeline = false;            ///< of these
};
/// Prints and writes the sheets, checks the limits, and keeps the sheets where that is asked for.
int deliver(const SheetOptions& options, const Delivery& delivery);

/// @throws Error bad_argument with the nearest names for a limit on what no sheet of a command can hold.
/// @param readings  names and patterns that it can; empty: not known.
void require_known(const Limit& limit, const std::vector<std::string>& readings);
/// Whether to print in colour. @param colour  auto, always or never.
bool in_colour(const std::string& colour);
/// Prints a page. @param colour  as --colour says.
void print_page(const Page& page, const std::string& colour);
/// Prints one sheet as its measurement lays it out. @param all  every reading by its name.
void print_sheet(const Sheet& sheet, bool all, const std::string& colour);

/// Refuses two rates that are the same: one file would take the place of the other. @param option  that has
/// them. @throws Error bad_argument.
void require_different(const std::vector<double>& rates_hz, const char* option);

/// The recipe of a file, with the words of `measure` checked against the measurements there are.
Recipe read_measured_recipe(const std::string& file);

/// Two examples at the end of the help of each command.
void add_examples(CLI::App& app);
void add_make(CLI::App& app, Action& action);
void add_show(CLI::App& app, Action& action);
void add_units(CLI::App& app, Action& action);
void add_feed(CLI::App& app, Action& action);
void add_health(CLI::App& app, Action& action);
/// The command of that name; null where it was not set up.
CLI::App* find_command(CLI::App& app, std::string_view name);
/// A measurement of the list as a command.
void add_measurement(CLI::App& app, const MeasurementDescriptor& descriptor, Action& action);
void add_explain(CLI::App& app, Action& action);
void add_kit(CLI::App& app, Action& action);
void add_logbook(CLI::App& app, Action& action);
void add_bench(CLI::App& app, Action& action);
void add_report(CLI::App& app, Action& action);
void add_stand_in(CLI::App& app, Action& action);
void add_watch(CLI::App& app, Action& action);
void add_doctor(CLI::App& app, Action& action);
void add_help(CLI::App& app, Action& action);
void add_completion(CLI::App& app, Action& action);

/// Every command, in the order in which they are set up.
[[nodiscard]] std::vector<std::string> command_names();
/// The parser with one command, or with all of them, to be looked at. @param name  empty: all.
[[nodiscard]] std::unique_ptr<CLI::App> command_app(const std::string& name);

}  // namespace wavicon::cli
