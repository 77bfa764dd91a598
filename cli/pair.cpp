#include "wavicon/measure/pair.hpp"

#include <fmt/format.h>

#include <memory>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Pair {
  SheetOptions sheet;
  std::vector<int> channels;
  std::string draw = "overview";
};

Sheet measure(const Pair& command) {
  const auto& files = command.sheet.captures;
  PairOptions options{.from_s = command.sheet.from_s, .to_s = command.sheet.to_s};
  FileSource a(files.front());
  std::unique_ptr<FileSource> other;
  if (files.size() == 2) other = std::make_unique<FileSource>(files[1]);
  FileSource& b = other ? *other : a;
  if (!command.channels.empty()) {
    options.a_channel = command.channels[0] - 1;
    options.b_channel = command.channels[1] - 1;
  } else if (command.sheet.channel) {
    if (!other)
      throw Error(ErrorCode::bad_argument,
                  files.front() + ": of one file, two channels are compared: --channels 1,2");
    require_channel(command.sheet, std::min(a.channel_count(), b.channel_count()));
    options.a_channel = options.b_channel = *command.sheet.channel - 1;
  } else if (!other) {
    if (a.channel_count() != 2)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{}: has {} channel{}; of one file, two channels are compared: --channels 1,2",
                              files.front(), a.channel_count(), a.channel_count() == 1 ? "" : "s"));
    options.b_channel = 1;
  }
  auto name = [](const std::string& file, int channel, const FileSource& source) {
    return source.channel_count() > 1 ? fmt::format("{}, channel {}", file, channel + 1) : file;
  };
  try {
    return pair_sheet(measure_pair(a, b, options), capture_info(b.info()),
                      name(files.front(), options.a_channel, a), name(files.back(), options.b_channel, b));
  } catch (const Error& error) {
    throw Error(error.code(), fmt::format("{}: {}", files.back(), error.what()));
  }
}

std::string draw(const Pair& command, const Sheet& sheet, bool svg) {
  const PlotOptions options{.format = svg ? PlotFormat::svg : PlotFormat::png};
  if (command.draw == "overview") return draw_pair(sheet, options);
  CurveStyle style{.title = "Levels in third octaves",
                   .x_title = "frequency, Hz",
                   .y_title = "dBFS",
                   .log_frequency = true};
  if (command.draw == "spectrum") style.names = {"A", "B"};
  if (command.draw == "mid-side") style.names = {"mid", "side", "A", "B"};
  if (command.draw == "levels")
    style = {.names = {"A over time", "B over time"},
             .title = "Level over time",
             .x_title = "time, s",
             .y_title = "RMS, dBFS"};
  if (command.draw == "loudness")
    style = {.names = {"loudness of A", "loudness of B"},
             .title = "How often it is how loud",
             .x_title = "momentary loudness, LUFS",
             .y_title = "share of the time, %",
             .steps = true};
  return draw_curves({sheet}, style, options);
}

int run(Pair& command) {
  command.sheet.check();
  if (command.sheet.captures.size() > 2)
    throw Error(ErrorCode::bad_argument, "a pair is two files, or two channels of one");
  return deliver(command.sheet, {measure(command)},
                 [&](const std::vector<Sheet>& all, bool svg) { return draw(command, all.front(), svg); });
}

}  // namespace

void add_pair(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "pair", "how do two files, or two channels of one, relate in level, time and phase?");
  auto pair = std::make_shared<Pair>();
  pair->sheet.overlays = true;
  pair->sheet.add_to(*command);
  command->add_option("--channels", pair->channels, "which channel of A and which of B, from 1: 1,2")
      ->delimiter(',')
      ->expected(2)
      ->check(CLI::PositiveNumber);
  command
      ->add_option("--draw", pair->draw, "what --plot draws: overview, spectrum, mid-side, levels, loudness")
      ->check(CLI::IsMember({"overview", "spectrum", "mid-side", "levels", "loudness"}))
      ->capture_default_str();
  command->callback([pair, &action] { action = [pair] { return run(*pair); }; });
}

}  // namespace wavicon::cli
