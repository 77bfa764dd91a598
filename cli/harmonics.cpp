#include <fmt/format.h>

#include <memory>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/measure/harmonics.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Harmonics {
  SheetOptions sheet;
  HarmonicsOptions options;
  std::vector<double> band_hz;
};

// The capture, or the one channel of it that was asked for.
Audio selected(const AudioFile& file, const std::optional<int>& channel) {
  if (!channel) return file.audio;
  if (*channel > file.info.channel_count)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{}: there is no channel {}, it has {}", file.info.path.string(), *channel,
                            file.info.channel_count));
  Audio one(file.info.sample_rate_hz, 1, file.info.frames);
  const auto from = file.audio.channel(*channel - 1);
  std::copy(from.begin(), from.end(), one.channel(0).begin());
  return one;
}

Sheet measure(const std::string& path, const Harmonics& command) {
  const AudioFile file = read_audio_file(path);
  HarmonicsOptions options = command.options;
  options.from_s = command.sheet.from_s;
  options.to_s = command.sheet.to_s;
  options.format = file.info.format;
  options.rms_reference = command.sheet.rms_reference == "sine" ? RmsReference::sine : RmsReference::square;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  try {
    const auto& channel = command.sheet.channel;
    Sheet sheet = harmonics_sheet(measure_harmonics(selected(file, channel), options),
                                  {path, name_of(file.info.format), file.info.sample_rate_hz,
                                   file.info.channel_count, file.info.frames});
    if (channel) {
      for (Reading& r : sheet.readings) r.channel = *channel - 1;
      for (Curve& c : sheet.curves) c.channel = *channel - 1;
      for (Finding& f : sheet.findings) f.channel = *channel - 1;
    }
    return sheet;
  } catch (const Error& error) {
    throw Error(error.code(), path + ": " + error.what());
  }
}

int run(const Harmonics& command) {
  command.sheet.check();
  std::vector<Sheet> sheets;
  for (const std::string& capture : command.sheet.captures) sheets.push_back(measure(capture, command));
  return deliver(command.sheet, sheets, [](const Sheet& sheet, bool svg) {
    return draw_harmonics(sheet, {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
}

}  // namespace

void add_harmonics(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("harmonics", "levels of the harmonics of a tone, THD, THD+N, SINAD, residual noise");
  auto harmonics = std::make_shared<Harmonics>();
  harmonics->sheet.add_to(*command);
  command->add_option("--tone", harmonics->options.tone_hz,
                      "fundamental in Hz, found within 3 % (default: the strongest tone)");
  command
      ->add_option("--orders", harmonics->options.highest_order,
                   "highest order that is read and counted in THD")
      ->capture_default_str();
  command
      ->add_option("--band", harmonics->band_hz,
                   "FROM TO in Hz, for THD+N, SINAD and noise (default: 20 20000)")
      ->expected(2);
  command->callback([harmonics, &action] { action = [harmonics] { return run(*harmonics); }; });
}

}  // namespace wavicon::cli
