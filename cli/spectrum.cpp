#include "wavicon/measure/spectrum.hpp"

#include "capture.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Spectrum {
  SheetOptions sheet;
  IntakeOptions intake;
  SpectrumOptions options;
  std::string draw = "spectrum";
};

Sheet measure(const std::string& path, const Spectrum& command) {
  Capture capture = open_capture(path, command.intake);
  const AudioFileInfo& info = capture.source->info();
  require_channel(command.sheet, info.channel_count);
  SpectrumOptions options = command.options;
  const StretchS stretch = stretch_of(capture, command.sheet, command.intake.part);
  options.from_s = stretch.from_s;
  options.to_s = stretch.to_s;
  if (const auto repeats = repeating_part(capture, command.sheet, command.intake.part)) {
    options.period_frames = repeats->period_frames;
    options.from_s = repeats->from_s;
    options.to_s = repeats->to_s;
  }
  Sheet sheet = spectrum_sheet(measure_spectrum(*capture.source, options), capture_info(info));
  finish(sheet, capture);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

int run(const Spectrum& command) {
  command.sheet.check();
  const auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(path, command); });
  return deliver(command.sheet, sheets, [&](const std::vector<Sheet>& all, bool svg) {
    const bool density = command.options.density, bands = command.options.bands_per_octave > 0;
    CurveStyle style{.names = {bands ? "bands" : "spectrum"},
                     .title = bands ? "Levels in bands" : "Spectrum",
                     .x_title = "frequency, Hz",
                     .y_title = bands     ? "RMS level in the band, dBFS"
                                : density ? "dBFS per root Hz"
                                          : "level of a sine, dBFS",
                     .log_frequency = true,
                     .lowest_x = 10,
                     .shown_range = bands ? 100.0 : 180.0};
    if (command.options.peak_hold && !bands) style.names.push_back("peak hold");
    return draw_curves(all, style, {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
}

}  // namespace

void add_spectrum(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("spectrum", "averaged spectrum: lines with their likely causes, bands");
  auto spectrum = std::make_shared<Spectrum>();
  spectrum->sheet.overlays = true;
  spectrum->sheet.add_to(*command);
  spectrum->intake.add_to(*command,
                          "measure this part of the stimulus alone (default: from the first to the last)");
  SpectrumOptions& options = spectrum->options;
  command->add_option("--resolution", options.resolution_hz, "distance in Hz at which two lines come apart")
      ->capture_default_str();
  command->add_option("--overlap", options.overlap, "of neighbouring windows, 0 to 0.95")
      ->capture_default_str();
  command->add_option("--averages", options.averages, "at most so many windows (default: all)");
  command->add_flag("--peak-hold", options.peak_hold, "also the highest value of each bin");
  command->add_flag("--density", options.density, "per root of a hertz instead of the level of a sine");
  command->add_flag("--remove-dc", options.remove_dc, "leave the hump at 0 Hz out of the curve");
  command->add_option("--bands", options.bands_per_octave,
                      "also levels in bands: 1, 3, 6, 12 or 24 per octave");
  command->add_option("--peaks", options.most_peaks, "list at most so many lines")->capture_default_str();
  command->add_flag("--mid-side", options.mid_side, "mid and side of two channels");
  command->add_option("--tone", options.tone_hz,
                      "tone whose harmonics lines are named after (default: the strongest line)");
  command->callback([spectrum, &action] { action = [spectrum] { return run(*spectrum); }; });
}

}  // namespace wavicon::cli
