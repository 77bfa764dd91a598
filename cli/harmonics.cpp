#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <memory>
#include <numeric>
#include <utility>

#include "harmonics.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/measure/harmonics_change.hpp"
#include "wavicon/measure/harmonics_sweep.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

constexpr double kLongestS = 60;  // of a capture without a known part

double tone_hz(const Stimulus& stimulus, const PlacedPart& placed) {
  const auto index = static_cast<std::size_t>(&placed - stimulus.parts().data());
  return std::get<Tone>(stimulus.recipe().parts[index].kind).frequency_hz;
}

// What to measure of a stimulus: the part that --part names, else the first one that holds steady tones, a
// plain tone before all others. None when there is no such part.
const PlacedPart* part_to_measure(const Stimulus& stimulus, const std::string& name) {
  const auto steady = [](const PlacedPart& part) {
    return part.kind == "tone" || part.kind == "staircase" || part.kind == "two_tone" ||
           part.kind == "multitone";
  };
  std::vector<std::string> names;
  const PlacedPart *first = nullptr, *sweep = nullptr;
  for (const PlacedPart& part : stimulus.parts()) {
    if (part.kind == "sweep") {
      names.push_back(part.name);
      if (sweep == nullptr && (name.empty() || part.name == name)) sweep = &part;
    }
    if (!steady(part)) continue;
    names.push_back(part.name);
    if (name.empty() ? first == nullptr || (part.kind == "tone" && first->kind != "tone") : part.name == name)
      first = &part;
  }
  if (first != nullptr) return first;
  if (sweep != nullptr) return sweep;
  if (!name.empty())
    throw Error(ErrorCode::bad_argument,
                fmt::format("the stimulus has no part '{}' of steady tones, and no sweep of that name{}",
                            name, name_hint(name, names)));
  return nullptr;
}

// Where the loudest minute of a long capture begins: nobody needs more, and memory would grow with the
// capture.
double loudest_minute_s(FileSource& source) {
  const double rate = source.sample_rate_hz();
  const auto second = static_cast<std::int64_t>(rate);
  std::vector<double> scratch(static_cast<std::size_t>(second * source.channel_count())), energy;
  for_each_block(source, 0, source.frames() / second * second, scratch,
                 [&](std::int64_t, std::span<const double> planar, std::int64_t) {
                   energy.push_back(std::inner_product(planar.begin(), planar.end(), planar.begin(), 0.0));
                 });
  const auto minute = static_cast<std::size_t>(kLongestS);
  double sum = std::accumulate(energy.begin(), energy.begin() + static_cast<std::ptrdiff_t>(minute), 0.0),
         best = sum;
  std::size_t at = 0;
  for (std::size_t i = minute; i < energy.size(); ++i) {
    sum += energy[i] - energy[i - minute];
    if (sum > best * (1 + 1e-9)) {
      best = sum;
      at = i + 1 - minute;
    }
  }
  return static_cast<double>(at);
}

// Measures the stretch of a tone part where the capture holds it, unless the user named a stretch.
void aim(const Harmonics& command, Capture& capture, HarmonicsOptions& options) {
  if (!capture.take) {
    if (!capture.stimulus)
      capture.findings.push_back({Severity::note,
                                  "no stimulus was given: the strongest steady tone was taken for it",
                                  std::nullopt});
    return;
  }
  const PlacedPart* part = part_to_measure(*capture.stimulus, command.intake.part);
  if (part == nullptr || part->kind != "tone") {
    capture.findings.push_back(
        {Severity::note, "the stimulus has no part that is a tone: the strongest steady tone was measured",
         std::nullopt});
    return;
  }
  const StretchS stretch = stretch_of(capture, command.sheet, part->name);
  options.from_s = stretch.from_s;
  options.to_s = stretch.to_s;
  if (!options.tone_hz) options.tone_hz = tone_hz(*capture.stimulus, *part) * capture.take->rate_ratio;
}

Sheet measure_tone(const Harmonics& command, Capture& capture) {
  const AudioFileInfo& info = capture.source->info();
  HarmonicsOptions options = options_for(command, capture);
  options.from_s = command.sheet.from_s;
  options.to_s = command.sheet.to_s;
  aim(command, capture, options);
  require_channel(command.sheet, info.channel_count);
  const double length_s = static_cast<double>(info.frames) / info.sample_rate_hz;
  if (!options.to_s && length_s - options.from_s > kLongestS && !capture.broken) {
    if (options.from_s == 0) options.from_s = loudest_minute_s(*capture.source);
    options.to_s = std::min(length_s, options.from_s + kLongestS);
    capture.findings.push_back(
        {Severity::note,
         fmt::format("the capture is long: {:g} s from {:g} s on were looked at; --from and --to "
                     "choose others",
                     kLongestS, options.from_s),
         std::nullopt});
  }
  // Nothing else than the stretch is held in memory.
  std::int64_t first = 0, frames = info.frames;
  if (options.to_s && options.from_s >= 0 && *options.to_s > options.from_s &&
      *options.to_s <= length_s + 0.5 / info.sample_rate_hz) {
    first = std::llround(options.from_s * info.sample_rate_hz);
    frames = std::llround(*options.to_s * info.sample_rate_hz) - first;
    options.audio_starts_s = static_cast<double>(first) / info.sample_rate_hz;
    options.from_s = 0;
    options.to_s.reset();
  }
  Sheet sheet = harmonics_sheet(measure_harmonics(selected(command, capture, first, frames), options),
                                capture_info(info));
  renumber(command, sheet);
  finish(sheet, capture);
  return sheet;
}

bool over_frequency(const Sheet& sheet) {
  return std::any_of(sheet.curves.begin(), sheet.curves.end(),
                     [](const Curve& c) { return c.name == "THD" && c.x_unit == "Hz"; });
}

std::string draw_over_frequency(const std::vector<Sheet>& sheets, const PlotOptions& options) {
  CurveStyle style{.names = {"THD"},
                   .title = "Harmonics over the frequency of the sweep",
                   .x_title = "frequency of the sweep, Hz",
                   .y_title = "relative to the fundamental, dBc",
                   .log_frequency = true,
                   .shown_range = 140};
  if (sheets.size() == 1)
    for (int k = 2; k <= 7; ++k) style.names.push_back(fmt::format("H{}", k));
  else
    style.title = "THD over the frequency of the sweep";
  return draw_curves(sheets, style, options);
}

// Orders of a sweep over its frequency: everything up to order 40 is followed, so that what folds is not
// taken for them.
Sheet measure_sweep(const Harmonics& command, Capture& capture, const PlacedPart& part) {
  const auto index = static_cast<std::size_t>(&part - capture.stimulus->parts().data());
  require_channel(command.sheet, capture.source->channel_count());
  capture.conditions.emplace_back("part", part.name);
  Sheet sheet = harmonics_over_frequency(
      measure_aliasing(*capture.source, *capture.stimulus, index, *capture.take,
                       {.format = capture.source->info().format}),
      std::min(10, command.options.highest_order), capture_info(capture.source->info()));
  finish(sheet, capture);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

std::string draw(const Harmonics& command, const std::vector<Sheet>& sheets, bool svg) {
  const PlotOptions options{.format = svg ? PlotFormat::svg : PlotFormat::png};
  if (command.draw == "period") return draw_period(sheets, options);
  if (std::any_of(sheets.begin(), sheets.end(), over_frequency)) return draw_over_frequency(sheets, options);
  const bool tone =
      std::all_of(sheets.begin(), sheets.end(), [](const Sheet& s) { return s.measurement == "harmonics"; });
  if (tone)
    return sheets.size() == 1 ? draw_harmonics(sheets.front(), options) : draw_orders(sheets, options);
  return draw_curves(
      sheets,
      {.names = {"spectrum"},
       .title = sheets.size() == 1 ? "Spectrum of the tones and of what they make of each other"
                                   : "Spectra side by side",
       .x_title = "frequency, Hz",
       .y_title = "level of a sine, dBFS",
       .log_frequency = true,
       .shown_range = 180},
      options);
}

int run(const Harmonics& command) {
  command.sheet.check();
  const bool whole = command.sheet.from_s == 0 && !command.sheet.to_s;
  std::optional<int> status;
  auto measure = [&](const std::string& path, bool alone) {
    Capture capture = open_capture(path, command.intake);
    const PlacedPart* part =
        capture.take && !capture.broken ? part_to_measure(*capture.stimulus, command.intake.part) : nullptr;
    if (part != nullptr && part->kind == "sweep" && whole) return measure_sweep(command, capture, *part);
    if (part != nullptr && (part->kind == "two_tone" || part->kind == "multitone"))
      return measure_tones(command, capture, *part);
    if (part == nullptr || part->kind != "staircase" || !alone || !whole)
      return measure_tone(command, capture);
    status = run_ladder(command, capture, *part);
    return Sheet{};
  };
  std::optional<Sheet> reference;
  if (!command.reference.empty()) {
    SheetOptions one = command.sheet;
    one.captures = {command.reference};
    reference = measure_each(one, [&](const std::string& path) { return measure(path, false); }).front();
  }
  auto sheets = measure_each(command.sheet, [&](const std::string& path) {
    return measure(path, command.sheet.captures.size() == 1 && !reference);
  });
  if (status) return *status;
  if (reference)
    for (Sheet& sheet : sheets) add_harmonics_change(sheet, *reference);
  return deliver(command.sheet, sheets,
                 [&](const std::vector<Sheet>& all, bool svg) { return draw(command, all, svg); });
}

}  // namespace

HarmonicsOptions options_for(const Harmonics& command, const Capture& capture) {
  HarmonicsOptions options = command.options;
  options.format = capture.source->info().format;
  options.rms_reference = command.sheet.rms_reference == "sine" ? RmsReference::sine : RmsReference::square;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  return options;
}

Audio selected(const Harmonics& command, Capture& capture, std::int64_t first, std::int64_t frames) {
  Audio all = read_stretch(*capture.source, first, frames);
  if (!command.sheet.channel) return all;
  Audio one(all.sample_rate_hz(), 1, all.frames());
  const auto from = std::as_const(all).channel(*command.sheet.channel - 1);
  std::copy(from.begin(), from.end(), one.channel(0).begin());
  return one;
}

void renumber(const Harmonics& command, Sheet& sheet) {
  if (!command.sheet.channel) return;
  const int channel = *command.sheet.channel - 1;
  for (Reading& r : sheet.readings) r.channel = channel;
  for (Curve& c : sheet.curves) c.channel = channel;
  for (Finding& f : sheet.findings) f.channel = channel;
}

void add_harmonics(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("harmonics", "levels of the harmonics of a tone, THD, THD+N, SINAD, residual noise");
  auto harmonics = std::make_shared<Harmonics>();
  harmonics->sheet.overlays = true;
  harmonics->sheet.add_to(*command);
  harmonics->intake.add_to(
      *command,
      "tone, staircase, pair, multitone or sweep of the stimulus to measure (default: the "
      "first tone, else the first of the others, a sweep last)");
  command->add_option("--reference", harmonics->reference,
                      "what went in, as a capture of its own: also says what was added to each order");
  command->add_option("--draw", harmonics->draw, "what --plot draws: the spectrum, or one period of the tone")
      ->check(CLI::IsMember({"spectrum", "period"}))
      ->capture_default_str();
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
