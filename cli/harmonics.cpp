#include <fmt/format.h>

#include <cmath>
#include <memory>
#include <utility>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/measure/harmonics.hpp"
#include "wavicon/measure/harmonics_ladder.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

struct Harmonics {
  SheetOptions sheet;
  IntakeOptions intake;
  HarmonicsOptions options;
  std::vector<double> band_hz;
};

// A stretch of the capture, or the one channel of it that was asked for.
Audio selected(FileSource& source, const std::optional<int>& channel, std::int64_t first,
               std::int64_t frames) {
  Audio all = read_stretch(source, first, frames);
  if (!channel) return all;
  Audio one(source.sample_rate_hz(), 1, all.frames());
  const auto from = std::as_const(all).channel(*channel - 1);
  std::copy(from.begin(), from.end(), one.channel(0).begin());
  return one;
}

const PlacedPart* tone_part(const Stimulus& stimulus, const std::string& name) {
  std::vector<std::string> names;
  for (const PlacedPart& part : stimulus.parts()) {
    if (part.kind == "tone" && (name.empty() || part.name == name)) return &part;
    if (part.kind == "tone") names.push_back(part.name);
  }
  if (!name.empty())
    throw Error(ErrorCode::bad_argument,
                fmt::format("the stimulus has no tone part '{}'{}", name, name_hint(name, names)));
  return nullptr;
}

double tone_hz(const Stimulus& stimulus, const PlacedPart& placed) {
  const auto index = static_cast<std::size_t>(&placed - stimulus.parts().data());
  return std::get<Tone>(stimulus.recipe().parts[index].kind).frequency_hz;
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
  const PlacedPart* part = tone_part(*capture.stimulus, command.intake.part);
  if (part == nullptr) {
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

Sheet measure(Capture& capture, const Harmonics& command) {
  const AudioFileInfo& info = capture.source->info();
  HarmonicsOptions options = command.options;
  options.from_s = command.sheet.from_s;
  options.to_s = command.sheet.to_s;
  options.format = info.format;
  options.rms_reference = command.sheet.rms_reference == "sine" ? RmsReference::sine : RmsReference::square;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  aim(command, capture, options);
  const auto& channel = command.sheet.channel;
  require_channel(command.sheet, info.channel_count);
  std::int64_t first = 0, frames = info.frames;
  // Where the part is known nothing else is held in memory.
  if (capture.take && options.to_s) {
    first = std::llround(options.from_s * info.sample_rate_hz);
    frames = std::llround(*options.to_s * info.sample_rate_hz) - first;
    options.audio_starts_s = static_cast<double>(first) / info.sample_rate_hz;
    options.from_s = 0;
    options.to_s.reset();
  }
  Sheet sheet = harmonics_sheet(measure_harmonics(selected(*capture.source, channel, first, frames), options),
                                capture_info(info));
  if (channel) {
    for (Reading& r : sheet.readings) r.channel = *channel - 1;
    for (Curve& c : sheet.curves) c.channel = *channel - 1;
    for (Finding& f : sheet.findings) f.channel = *channel - 1;
  }
  finish(sheet, capture);
  return sheet;
}

// The staircase to climb: the one that --part names, or the first when no part is a tone.
const PlacedPart* staircase_part(const Harmonics& command, const Stimulus& stimulus) {
  const PlacedPart* found = nullptr;
  for (const PlacedPart& part : stimulus.parts()) {
    if (command.intake.part.empty() && part.kind == "tone") return nullptr;
    const bool named = command.intake.part.empty() || part.name == command.intake.part;
    if (part.kind == "staircase" && named && found == nullptr) found = &part;
  }
  return found;
}

// Harmonics of every step of a staircase.
std::vector<LadderStep> climb(const Harmonics& command, Capture& capture, const PlacedPart& part) {
  const auto index = static_cast<std::size_t>(&part - capture.stimulus->parts().data());
  const auto& staircase = std::get<Staircase>(capture.stimulus->recipe().parts[index].kind);
  HarmonicsOptions options = command.options;
  options.format = capture.source->info().format;
  options.rms_reference = command.sheet.rms_reference == "sine" ? RmsReference::sine : RmsReference::square;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  std::vector<LadderStep> steps;
  for (const StaircaseStep& step : staircase_steps(staircase, capture.stimulus->recipe().sample_rate_hz)) {
    const auto first = static_cast<double>(part.first_frame + step.first_frame);
    const double rate = capture.source->sample_rate_hz();
    const auto from = std::llround(capture.seconds_of(first) * rate),
               to = std::llround(capture.seconds_of(first + static_cast<double>(step.frames)) * rate);
    options.tone_hz = step.frequency_hz * capture.take->rate_ratio;
    options.audio_starts_s = static_cast<double>(from) / rate;
    Sheet sheet = harmonics_sheet(measure_harmonics(read_stretch(*capture.source, from, to - from), options),
                                  capture_info(capture.source->info()));
    for (Reading& r : sheet.readings) {
      r.conditions.emplace_back("step_hz", step.frequency_hz);
      r.conditions.emplace_back("step_dbfs", step.level_dbfs);
      r.conditions.emplace_back("part", part.name);
    }
    finish(sheet, capture);
    keep_channel(sheet, command.sheet.channel);
    steps.push_back({step.frequency_hz, step.level_dbfs, std::move(sheet)});
  }
  return steps;
}

int run_ladder(const Harmonics& command, Capture& capture, const PlacedPart& part) {
  const auto steps = climb(command, capture, part);
  std::vector<Sheet> sheets;
  std::vector<std::string> names;
  for (const LadderStep& step : steps) {
    sheets.push_back(step.sheet);
    names.push_back(fmt::format("{:g} Hz, {:g} dBFS", step.frequency_hz, step.level_dbfs));
  }
  const Sheet ladder = harmonics_ladder(steps, capture_info(capture.source->info()));
  sheets.push_back(ladder);
  SheetOptions options = command.sheet;
  options.quiet = options.quiet || !options.json;
  const int status = deliver(options, sheets, [&](const std::vector<Sheet>&, bool svg) {
    CurveStyle style{.names = {},
                     .title = "Harmonics over the level of the stimulus",
                     .x_title = "level of the stimulus, dBFS",
                     .y_title = "relative to the fundamental, dBc",
                     .shown_range = 160};
    for (const Curve& curve : ladder.curves) style.names.push_back(curve.name);
    return draw_curves({ladder}, style, {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
  if (command.sheet.json || command.sheet.quiet) return status;
  sheets.pop_back();
  say(false, ladder_table(sheets, names,
                          {"fundamental_dbfs", "h2_dbc", "h3_dbc", "h4_dbc", "h5_dbc", "h6_dbc", "h7_dbc",
                           "thd_db", "thd_n_db", "even_over_odd_db"}));
  std::fputs(sheet_table(ladder).c_str(), stdout);
  return status;
}

int run(const Harmonics& command) {
  command.sheet.check();
  const bool whole = command.sheet.from_s == 0 && !command.sheet.to_s;
  std::optional<int> status;
  const auto sheets = measure_each(command.sheet, [&](const std::string& path) {
    Capture capture = open_capture(path, command.intake);
    const bool alone = command.sheet.captures.size() == 1 && whole && capture.take;
    const PlacedPart* part = alone ? staircase_part(command, *capture.stimulus) : nullptr;
    if (part == nullptr) return measure(capture, command);
    status = run_ladder(command, capture, *part);
    return Sheet{};
  });
  if (status) return *status;
  return deliver(command.sheet, sheets, [](const std::vector<Sheet>& all, bool svg) {
    return draw_harmonics(all.front(), {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
}

}  // namespace

void add_harmonics(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("harmonics", "levels of the harmonics of a tone, THD, THD+N, SINAD, residual noise");
  auto harmonics = std::make_shared<Harmonics>();
  harmonics->sheet.add_to(*command);
  harmonics->intake.add_to(
      *command,
      "tone or staircase of the stimulus to measure (default: the first tone, else the first staircase)");
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
