#include "wavicon/measure/noise.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "capture.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct NoiseCommand {
  SheetOptions sheet;
  IntakeOptions intake;
  NoiseOptions options;
  std::vector<double> band_hz;
  std::string calibrate;
  std::string draw = "density";
};

// The tone of a part that is one, so that it is cut out even when it is weak.
std::optional<double> part_tone_hz(const Capture& capture, const std::string& name) {
  if (!capture.take) return std::nullopt;
  const auto& parts = capture.stimulus->recipe().parts;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    const auto* tone = std::get_if<Tone>(&parts[i].kind);
    if (tone != nullptr && (parts.size() == 1 || capture.stimulus->parts()[i].name == name))
      return tone->frequency_hz * capture.take->rate_ratio;
  }
  return std::nullopt;
}

// Silence is what noise is measured in: the part of a stimulus that is silent, unless a part is named.
std::string quiet_part(const Capture& capture, const std::string& named) {
  if (!named.empty() || !capture.take) return named;
  for (const PlacedPart& part : capture.stimulus->parts())
    if (part.kind == "silence") return part.name;
  for (const PlacedPart& part : capture.stimulus->parts())
    if (part.kind == "tone") return part.name;
  return named;
}

bool is_silence(const Capture& capture, const std::string& name) {
  if (!capture.take) return false;
  const auto& parts = capture.stimulus->parts();
  return std::any_of(parts.begin(), parts.end(),
                     [&](const PlacedPart& part) { return part.name == name && part.kind == "silence"; });
}

Sheet measure(const std::string& path, const NoiseCommand& command) {
  Capture capture = open_capture(path, command.intake);
  const AudioFileInfo& info = capture.source->info();
  require_channel(command.sheet, info.channel_count);
  NoiseOptions options = command.options;
  const std::string part = quiet_part(capture, command.intake.part);
  const StretchS stretch = stretch_of(capture, command.sheet, part);
  options.from_s = stretch.from_s;
  options.to_s = stretch.to_s;
  if (!options.tone_hz) options.tone_hz = part_tone_hz(capture, part);
  // A line that stands out of silence was not played: it is noise, and listed.
  if (!options.tone_hz && is_silence(capture, part)) options.keep_tone = true;
  options.format = info.format;
  options.rms_reference = command.sheet.rms_reference == "sine" ? RmsReference::sine : RmsReference::square;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  if (!command.calibrate.empty()) options.full_scale_vrms = full_scale_vrms(command.calibrate);
  Sheet sheet = noise_sheet(measure_noise(*capture.source, options), capture_info(info));
  finish(sheet, capture);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

// Several captures, quietest first.
void say_ranking(const std::vector<Sheet>& sheets, bool quiet) {
  std::vector<std::pair<double, std::string>> levels;
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings)
      if (r.name == "noise_dbfs" && r.value)
        levels.emplace_back(
            *r.value, sheet.capture.file +
                          (sheet.capture.channels > 1 ? fmt::format(" channel {}", *r.channel + 1) : ""));
  std::sort(levels.begin(), levels.end());
  std::string text;
  for (const auto& [level, name] : levels)
    text += fmt::format("{}{} ({:.1f} dBFS)", text.empty() ? "" : ", ", name, level);
  say(quiet, "\nquietest first: " + text);
}

int run(const NoiseCommand& command) {
  command.sheet.check();
  const auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(path, command); });
  const int status = deliver(command.sheet, sheets, [&](const std::vector<Sheet>& all, bool svg) {
    const PlotOptions plot{.format = svg ? PlotFormat::svg : PlotFormat::png};
    if (command.draw == "time")
      return draw_curves(all,
                         {.names = {"noise"},
                          .title = "Noise over time",
                          .x_title = "time, s",
                          .y_title = "noise in the band, dBFS RMS",
                          .shown_range = 80},
                         plot);
    return draw_curves(all,
                       {.names = {"noise density"},
                        .title = "Noise density: tone and harmonics cut out, lines of hum left in",
                        .x_title = "frequency, Hz",
                        .y_title = "dBFS per root Hz, in bands of a 24th of an octave",
                        .log_frequency = true,
                        .lowest_x = 10,
                        .shown_range = 120},
                       plot);
  });
  if (sheets.size() > 1 && !command.sheet.json) say_ranking(sheets, command.sheet.quiet);
  return status;
}

}  // namespace

double full_scale_vrms(const std::string& text) {
  double volts = 0;
  char unit[8] = {};
  int used = 0;
  const int got = std::sscanf(text.c_str(), "0dBFS=%lf%7[A-Za-z]%n", &volts, unit, &used);
  const std::string word = unit;
  const bool whole = got == 2 && used == static_cast<int>(text.size());
  if (whole && word == "Vrms" && volts > 0) return volts;
  if (whole && word == "mVrms" && volts > 0) return volts / 1000;
  if (whole && word == "dBu") return kVoltsAt0Dbu * ratio_from_db(volts);
  throw Error(
      ErrorCode::bad_argument,
      fmt::format(
          "--calibrate {}: write what a full-scale sine is, as 0dBFS=2.45Vrms, 0dBFS=850mVrms or 0dBFS=18dBu",
          text));
}

void add_noise(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("noise", "noise floor, weighted too, dynamic range, bits, mains hum, other lines");
  auto noise = std::make_shared<NoiseCommand>();
  noise->sheet.overlays = true;
  noise->sheet.add_to(*command);
  noise->intake.add_to(*command,
                       "measure this part of the stimulus (default: the first silence, else the first tone)");
  command->add_option("--band", noise->band_hz, "FROM TO in Hz (default: 20 20000)")->expected(2);
  command->add_option(
      "--tone", noise->options.tone_hz,
      "tone in Hz to be cut out with its harmonics (default: the strongest, if one stands out)");
  command->add_flag("--keep-tone", noise->options.keep_tone, "cut nothing out");
  command
      ->add_option("--reference-level", noise->options.reference_dbfs,
                   "dBFS of the sine that the dynamic range refers to")
      ->capture_default_str();
  command->add_option("--calibrate", noise->calibrate,
                      "what a full-scale sine is: 0dBFS=2.45Vrms, 0dBFS=18dBu");
  command->add_option("--draw", noise->draw, "what --plot shows")
      ->check(CLI::IsMember({"density", "time"}))
      ->capture_default_str();
  command->callback([noise, &action] { action = [noise] { return run(*noise); }; });
}

}  // namespace wavicon::cli
