#include "wavicon/measure/levels.hpp"

#include <fmt/format.h>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Levels {
  SheetOptions sheet;
  IntakeOptions intake;
  LevelsOptions options;
  bool no_true_peak = false;
  bool no_loudness = false;
  std::string draw = "rms";
};

Sheet measure(const std::string& path, const Levels& command) {
  Capture capture = open_capture(path, command.intake);
  LevelsOptions options = command.options;
  const StretchS stretch = stretch_of(capture, command.sheet, command.intake.part);
  options.from_s = stretch.from_s;
  options.to_s = stretch.to_s;
  options.true_peak = !command.no_true_peak;
  options.loudness = !command.no_loudness;
  options.format = capture.source->info().format;
  options.rms_reference = command.sheet.rms_reference == "sine" ? RmsReference::sine : RmsReference::square;
  const AudioFileInfo& info = capture.source->info();
  require_channel(command.sheet, info.channel_count);
  Sheet sheet = levels_sheet(measure_levels(*capture.source, options), capture_info(info));
  finish(sheet, capture);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

CurveStyle style_of(const std::string& draw) {
  if (draw == "loudness")
    return {.names = {"short-term loudness", "momentary loudness"},
            .title = "Loudness over time",
            .x_title = "time, s",
            .y_title = "loudness, LUFS",
            .shown_range = 60};
  if (draw == "histogram")
    return {.names = {"loudness histogram"},
            .title = "How often which momentary loudness",
            .x_title = "momentary loudness, LUFS",
            .y_title = "share of the time, %",
            .steps = true};
  return {.names = {"rms"},
          .title = "RMS level over time",
          .x_title = "time, s",
          .y_title = "RMS level, dBFS",
          .shown_range = 120};
}

int run(const Levels& command) {
  command.sheet.check();
  const auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(path, command); });
  return deliver(command.sheet, sheets, [&](const std::vector<Sheet>& all, bool svg) {
    return draw_curves(all, style_of(command.draw), {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
}

}  // namespace

void add_levels(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("levels", "RMS, peak, true peak, crest, DC, loudness, and how they move");
  auto levels = std::make_shared<Levels>();
  levels->sheet.overlays = true;
  levels->sheet.add_to(*command);
  levels->intake.add_to(*command,
                        "measure this part of the stimulus alone (default: from the first to the last)");
  command->add_option("--window", levels->options.window_s, "of the RMS over time, in seconds")
      ->capture_default_str();
  command->add_option("--hop", levels->options.hop_s, "of the RMS over time, in seconds")
      ->capture_default_str();
  command->add_flag("--no-true-peak", levels->no_true_peak, "leave out the true peak: twice as fast");
  command->add_flag("--no-loudness", levels->no_loudness, "leave out loudness");
  command->add_option("--draw", levels->draw, "what --plot shows")
      ->check(CLI::IsMember({"rms", "loudness", "histogram"}))
      ->capture_default_str();
  command->callback([levels, &action] { action = [levels] { return run(*levels); }; });
}

}  // namespace wavicon::cli
