// SPDX-License-Identifier: MIT
// What comes in now: of a sound server, of units behind a generator, of recordings played at their own speed.

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <filesystem>
#include <memory>
#include <utility>

#include "commands.hpp"
#include "program.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/history.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/live/play.hpp"
#include "wavicon/live/watch_loop.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/path/live.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct WatchCommand {
  std::vector<std::string> sources, units;
  std::string play, view, beside, part = "all", until, folder = ".", format = "png", logbook;
  double frequency_hz = 1000, rate_hz = 48000, seconds = 0;
  std::optional<double> level_dbfs;
  double ceiling_dbfs = -6;
  WatchOptions options;
  bool json = false, lines = false, keep = false, quiet = false;
  std::string colour = "auto";
};

const std::vector<std::string> kParts = {"all", "left", "right", "mid", "side"};

std::sig_atomic_t volatile stop_asked = 0;

// What plays, at the source's rate; the marks it consists of are looked for.
std::shared_ptr<Generator> generator_of(WatchCommand& command, double rate_hz) {
  if (command.play.empty()) return nullptr;
  GeneratorOptions options{.name = command.play,
                           .sample_rate_hz = rate_hz,
                           .frequency_hz = command.frequency_hz,
                           .ceiling_dbfs = command.ceiling_dbfs};
  if (command.play != play_words().front()) {
    const bool file = fs::path(command.play).has_extension();
    Recipe recipe = file ? read_measured_recipe(command.play) : recipe_to_play(command.play, rate_hz);
    recipe.sample_rate_hz = rate_hz;
    const auto stimulus = std::make_shared<Stimulus>(recipe);
    options.name = recipe.name;
    options.loop = loop_of(*stimulus);
    if (recipe.marks) command.options.marks = stimulus;
  }
  if (command.level_dbfs) options.level_dbfs = *command.level_dbfs;
  return std::make_shared<Generator>(std::move(options));
}

bool is_port(const std::string& source) { return source.rfind("jack:", 0) == 0; }

double kept_seconds(const WatchCommand& command) {
  return std::max({command.options.keep_s, command.options.window_s, 10.0}) + 5;
}

std::unique_ptr<LiveSource> source_of(WatchCommand& command) {
  const double kept_s = kept_seconds(command);
  if (!command.units.empty()) {
    if (!command.sources.empty())
      throw Error(ErrorCode::bad_argument, "--through is a source of its own: no file and no port beside it");
    if (command.play.empty()) command.play = play_words().front();
    return generator_through(generator_of(command, command.rate_hz), command.units, own_units(), kept_s);
  }
  if (command.sources.empty() || command.sources.size() > 2)
    throw Error(ErrorCode::bad_argument,
                "watch: what? one or two of jack:SERVER?from=PORTS or recordings, or --through UNIT");
  if (is_port(command.sources.front()) != is_port(command.sources.back()))
    throw Error(ErrorCode::bad_argument, "a recording and a port cannot be watched together");
  if (!is_port(command.sources.front())) {
    if (!command.play.empty())
      throw Error(ErrorCode::bad_argument, "--play is for ports and for --through: a recording plays itself");
    std::vector<std::pair<std::string, std::shared_ptr<AudioSource>>> recordings;
    for (const std::string& file : command.sources)
      recordings.emplace_back(fs::path(file).filename().string(), std::make_shared<FileSource>(file));
    return play_recordings(std::move(recordings), kept_s);
  }
  StreamOptions stream;
  for (const std::string& source : command.sources) {
    const LiveOptions asked = live_options(parse_unit(source));
    if (stream.from.empty()) stream.server = asked.server;
    if (asked.server != stream.server)
      throw Error(ErrorCode::bad_argument, "two sources are of one server: only these are in step");
    stream.from.push_back(asked.from);
    if (!asked.to.empty()) stream.to = asked.to;
  }
  return ports_of_server(
      std::move(stream), [&](double rate) { return generator_of(command, rate); }, kept_s);
}

// A name in the folder that nothing has yet.
std::string free_name(const WatchCommand& command, const std::string& ending) {
  for (int number = 1;; ++number) {
    const fs::path path = fs::path(command.folder) / fmt::format("watched-{}{}", number, ending);
    if (!fs::exists(path)) return path.string();
  }
}

// The sheet is of the last source's file, by the others'.
std::string keep(const WatchCommand& command, const WatchKept& kept) {
  const std::string first = free_name(command, ".wav");
  std::string file = first, text;
  for (std::size_t i = 0; i < kept.captures.size(); ++i) {
    const Audio& audio = kept.captures[i].second;
    if (i > 0) file = fs::path(first).replace_extension("").string() + "-b.wav";
    write_audio_file(file, audio,
                     {.sample_rate_hz = audio.sample_rate_hz(),
                      .channel_count = audio.channel_count(),
                      .format = SampleFormat::float32,
                      .frames = audio.frames()});
    text += (text.empty() ? "" : ", ") + file;
  }
  text += fmt::format(" ({:.1f} s)", kept.captures.front().second.seconds());
  std::vector<Sheet> sheets = kept.figures.sheets;
  if (sheets.empty()) return text;
  add_context(sheets, {}, current_time_s());
  for (Sheet& sheet : sheets) sheet.capture.file = file;
  write_text_file(fs::path(first).replace_extension(".json").string(), sheets_to_json(sheets));
  text += " with its sheet";
  if (!command.keep) return text;
  Logbook logbook(command.logbook.empty() ? usual_logbook() : command.logbook, Logbook::Access::keep);
  return text + ", " + kept_text(logbook.keep(sheets, {}), logbook);
}

std::string draw(const WatchCommand& command, const std::vector<Sheet>& sheets, const Picture& picture) {
  const std::string file = free_name(command, "." + command.format);
  PlotOptions options;
  if (command.format == "svg") options.format = PlotFormat::svg;
  write_text_file(file, draw_picture(sheets, picture, options));
  return file;
}

// One line for each second.
void print_line(const WatchCommand& command, const Watch& watch, const WatchFigures& figures) {
  const std::string health = watch.health_line(), playing = watch.playing_line();
  if (command.json) {
    print(sheets_to_json_line(
              figures.sheets,
              {{"view", command.view}, {"answer", figures.answer}, {"playing", playing}, {"wrong", health}},
              {{"at_s", figures.at_s}, {"window_s", figures.window_s}}) +
          "\n");
  } else {
    print(fmt::format("{:6.1f} s  {}{}{}\n", figures.at_s, figures.answer,
                      playing.empty() ? "" : "  [" + playing + "]", health.empty() ? "" : "  ! " + health));
  }
  if (output_error() != 0) stop_asked = 1;
}

std::vector<std::string> names_of(WatchView view, const WatchCommand& command) {
  const std::size_t sources = command.units.empty() ? command.sources.size() : 2;
  return reading_names(*find_measurement(measurements(), measurement_of(view, sources)));
}

// The first one that gives what is waited for.
std::string view_for(const WatchCommand& command) {
  if (command.until.empty()) return watch_views().front().word;
  const Limit limit = parse_limit(command.until);
  for (const WatchViewInfo& info : watch_views()) {
    const auto names = names_of(info.view, command);
    if (std::find(names.begin(), names.end(), limit.name) != names.end()) return info.word;
  }
  return watch_views().front().word;
}

int run(WatchCommand command) {
  if (command.view.empty()) command.view = view_for(command);
  command.options.view = watch_view(command.view);
  if (!command.beside.empty()) command.options.beside = watch_view(command.beside);
  command.options.part =
      static_cast<WatchedPart>(std::find(kParts.begin(), kParts.end(), command.part) - kParts.begin());
  if (!command.until.empty()) {
    command.options.until = parse_limit(command.until);
    if (!command.options.until->past.empty())
      throw Error(ErrorCode::bad_argument, "--until waits for a number");
    require_known(*command.options.until, names_of(command.options.view, command));
  }
  if (command.keep)
    (void)Logbook(command.logbook.empty() ? usual_logbook() : command.logbook, Logbook::Access::keep);
  const bool terminal =
      !command.json && !command.lines && ::isatty(STDIN_FILENO) != 0 && ::isatty(STDOUT_FILENO) != 0;
  command.options.beside_drawing = terminal;
  if (!terminal) command.options.figures_each_s = 0;
  auto source = source_of(command);
  WatchHooks hooks{[&](const WatchKept& kept) { return keep(command, kept); },
                   [&](const std::vector<Sheet>& sheets, const Picture& picture) {
                     return draw(command, sheets, picture);
                   }};
  Watch watch(std::move(source), command.options, hooks);
  for (const int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { stop_asked = 1; });
  WatchLoop loop{command.seconds, [] { return stop_asked != 0; },
                 [&](const WatchFigures& figures) { print_line(command, watch, figures); }};
  if (terminal)
    watch_on_terminal(watch, loop, in_colour(command.colour));
  else
    watch_in_lines(watch, loop);
  for (const std::string& line : watch.kept()) say(command.quiet || command.json, line);
  if (!watch.source().trouble().empty() && !watch.reached())
    throw Error(ErrorCode::unit_failed, watch.source().trouble());
  if (!command.options.until) return exit_status::measured;
  if (!watch.reached()) {
    warn(command.quiet, fmt::format("{} did not come in {:.1f} s", command.until, watch.now_s()));
    return exit_status::limit_not_kept;
  }
  const Watch::Reached& reached = *watch.reached();
  say(command.json,
      fmt::format(
          "{} at {:.1f} s: {:.6g} {}{}", command.until, reached.at_s, reached.result.value.value_or(0),
          reached.result.unit,
          reached.level_dbfs ? fmt::format(", playing at {:.1f} dBFS", *reached.level_dbfs) : std::string()));
  return exit_status::measured;
}

std::vector<std::string> view_words() {
  std::vector<std::string> words;
  for (const WatchViewInfo& info : watch_views()) words.push_back(info.word);
  return words;
}

}  // namespace

void add_watch(CLI::App& app, Action& action) {
  auto* sub = app.add_subcommand("watch", "what comes in now? turn the knob and see");
  auto command = std::make_shared<WatchCommand>();
  sub->add_option("SOURCE", command->sources,
                  "one or two: jack:SERVER?from=PORTS (and &to=PORTS to play to), or recordings");
  sub->add_option("--through", command->units, "units that run behind what is played, in this order")
      ->allow_extra_args(false);
  sub->add_option("--play", command->play, "tone, sweep, noise, marks, or a recipe: over and over");
  sub->add_option("--frequency", command->frequency_hz, "of the tone, in Hz")->capture_default_str();
  sub->add_option("--level", command->level_dbfs, "peak of what is played, in dBFS (default: -20)");
  sub->add_option("--ceiling", command->ceiling_dbfs, "nothing is played above it, in dBFS")
      ->capture_default_str();
  sub->add_option("--rate", command->rate_hz, "with --through: sample rate in Hz")->capture_default_str();
  sub->add_option("--view", command->view, "what is shown first (default: spectrum, or what --until needs)")
      ->check(CLI::IsMember(view_words()));
  sub->add_option("--beside", command->beside, "and beside it, from 100 columns on")
      ->check(CLI::IsMember(view_words()));
  sub->add_option("--watch", command->part, "of two channels")
      ->check(CLI::IsMember(kParts))
      ->capture_default_str();
  sub->add_option("--window", command->options.window_s, "seconds that figures are of")
      ->capture_default_str();
  sub->add_option("--averaging", command->options.averaging_s,
                  "seconds that the drawn spectrum is averaged over")
      ->capture_default_str();
  sub->add_option("--transform", command->options.transform, "length of its transform")
      ->capture_default_str();
  sub->add_option("--last", command->options.keep_s, "seconds that 'k' keeps")
      ->check(CLI::Range(0.1, 600.0))
      ->capture_default_str();
  sub->add_option("--folder", command->folder, "where captures, sheets and pictures go")
      ->capture_default_str();
  sub->add_option("--pictures", command->format, "png or svg")
      ->check(CLI::IsMember({"png", "svg"}))
      ->capture_default_str();
  sub->add_flag("--keep", command->keep, "what 'k' keeps goes into the logbook as well");
  sub->add_option("--logbook", command->logbook, "the logbook (default: WAVICON_LOGBOOK, or the user's own)");
  sub->add_option("--seconds", command->seconds, "end after so long (default: at 'q', Ctrl-C or the end)");
  sub->add_option("--until", command->until, "NAME>VALUE (or <): end when a reading is there, else exit 1");
  sub->add_flag("--lines", command->lines, "a line a second, on a terminal as well");
  sub->add_flag("--json", command->json, "the same as an object a line");
  sub->add_option("--colour", command->colour, "auto, always or never")
      ->check(CLI::IsMember({"auto", "always", "never"}))
      ->capture_default_str();
  sub->add_flag("--quiet", command->quiet, "print figures and errors alone");
  sub->callback([command, &action] { action = [command] { return run(*command); }; });
}

}  // namespace wavicon::cli
