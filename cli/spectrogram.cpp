#include "wavicon/measure/spectrogram.hpp"

#include <fmt/format.h>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Spectrogram {
  SheetOptions sheet;
  IntakeOptions intake;
  SpectrogramOptions options;
  std::vector<double> band_hz;
  bool linear = false;
  int orders = 1;
};

Sheet measure(const std::string& path, const Spectrogram& command) {
  Capture capture = open_capture(path, command.intake);
  SpectrogramOptions options = command.options;
  if (command.sheet.channel) options.channel = *command.sheet.channel - 1;
  options.log_frequency = !command.linear;
  if (command.linear) options.low_hz = 0;
  if (command.band_hz.size() == 2) {
    options.low_hz = command.band_hz[0];
    options.high_hz = command.band_hz[1];
  }
  // A picture of a whole stimulus shows its marks as well; a part is shown alone.
  if (command.sheet.from_s != 0 || command.sheet.to_s || !command.intake.part.empty()) {
    const StretchS stretch = stretch_of(capture, command.sheet, command.intake.part);
    options.from_s = stretch.from_s;
    options.to_s = stretch.to_s;
  }
  Sheet sheet = measure_spectrogram(*capture.source, options, capture_info(capture.source->info()));
  if (capture.take)
    add_sweep_paths(sheet, *capture.stimulus, *capture.take, command.orders);
  else if (command.orders > 1)
    throw Error(ErrorCode::bad_argument,
                "--orders needs a sweep that was found in the capture; give --stimulus");
  finish(sheet, capture);
  return sheet;
}

int run(const Spectrogram& command) {
  command.sheet.check();
  return deliver(command.sheet,
                 measure_each(command.sheet, [&](const std::string& path) { return measure(path, command); }),
                 [](const std::vector<Sheet>& all, bool svg) {
                   return draw_spectrogram(all.front(), {.format = svg ? PlotFormat::svg : PlotFormat::png});
                 });
}

}  // namespace

void add_spectrogram(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("spectrogram", "levels over time and frequency");
  auto spectrogram = std::make_shared<Spectrogram>();
  spectrogram->sheet.add_to(*command);
  spectrogram->intake.add_to(*command, "show this part of the stimulus alone");
  SpectrogramOptions& options = spectrogram->options;
  command
      ->add_option("--resolution", options.resolution_hz,
                   "distance in Hz at which two tones come apart; finer is slower in time")
      ->capture_default_str();
  command->add_option("--overlap", options.overlap, "of neighbouring windows, 0 to 0.95")
      ->capture_default_str();
  command->add_flag("--linear", spectrogram->linear, "linear frequency axis from 0 Hz");
  command->add_option("--band", spectrogram->band_hz, "FROM TO in Hz (default: 20 Hz to half the rate)")
      ->expected(2);
  command
      ->add_option("--orders", spectrogram->orders,
                   "draw where the orders of a sweep run, up to this one, and their reflections")
      ->check(CLI::Range(1, 100));
  command->callback([spectrogram, &action] { action = [spectrogram] { return run(*spectrogram); }; });
}

}  // namespace wavicon::cli
