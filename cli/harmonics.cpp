#include <fmt/format.h>

#include <memory>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/intake/health.hpp"
#include "wavicon/measure/harmonics.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Harmonics {
  SheetOptions sheet;
  std::string stimulus;
  std::string part;
  bool despite_faults = false;
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

// What the intake said: which stretch to measure, and what to add to the sheet.
struct Prepared {
  std::vector<Finding> findings;
  Conditions conditions;
};

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
void aim_at_part(const Harmonics& command, const Stimulus& stimulus, const Take& take, double rate,
                 HarmonicsOptions& options, Prepared& prepared) {
  const PlacedPart* part = tone_part(stimulus, command.part);
  if (part == nullptr) {
    prepared.findings.push_back(
        {Severity::note, "the stimulus has no part that is a tone: the strongest steady tone was measured",
         std::nullopt});
    return;
  }
  prepared.conditions.emplace_back("part", part->name);
  if (command.sheet.from_s == 0 && !command.sheet.to_s) {
    const double first = take.first_frame + static_cast<double>(part->first_frame) * take.frames_per_frame;
    options.from_s = std::max(0.0, first / rate);
    options.to_s = (first + static_cast<double>(part->frames) * take.frames_per_frame) / rate;
  }
  if (!options.tone_hz) options.tone_hz = tone_hz(stimulus, *part) * take.rate_ratio;
}

// Distrusts the capture first: a fault refuses it.
Prepared prepare(const AudioFile& file, const Harmonics& command, HarmonicsOptions& options) {
  Prepared prepared;
  auto stimulus = stimulus_of(command.stimulus, file.info);
  const bool marked = stimulus && stimulus->marks();
  const HealthResult health = check_health(file.audio, marked ? stimulus.get() : nullptr,
                                           {.format = file.info.format, .spectra = false});
  const bool broken = std::any_of(health.channels.begin(), health.channels.end(),
                                  [](const auto& c) { return c.broken_frame.has_value(); });
  if (broken) return prepared;  // the measurement names channel and frame
  for (const Finding& finding : health_sheet(health, capture_info(file.info)).findings) {
    if (finding.severity == Severity::fault && !command.despite_faults)
      throw Error(ErrorCode::bad_input,
                  "unfit to be measured: " + finding.text + "; --despite-faults measures it all the same");
    // DC has a sentence of its own among the harmonics' findings.
    const bool told = finding.text.rfind("DC offset", 0) == 0;
    if (finding.severity != Severity::note && !told) prepared.findings.push_back(finding);
  }
  if (command.despite_faults) prepared.conditions.emplace_back("despite_faults", true);
  if (health.best)
    aim_at_part(command, *stimulus, health.takes[*health.best], file.info.sample_rate_hz, options, prepared);
  else if (!stimulus)
    prepared.findings.push_back(
        {Severity::note, "no stimulus was given: the strongest steady tone was taken for it", std::nullopt});
  return prepared;
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
    const Prepared prepared = prepare(file, command, options);
    const auto& channel = command.sheet.channel;
    Sheet sheet =
        harmonics_sheet(measure_harmonics(selected(file, channel), options), capture_info(file.info));
    for (Reading& r : sheet.readings) {
      if (channel) r.channel = *channel - 1;
      r.conditions.insert(r.conditions.end(), prepared.conditions.begin(), prepared.conditions.end());
    }
    if (channel) {
      for (Curve& c : sheet.curves) c.channel = *channel - 1;
      for (Finding& f : sheet.findings) f.channel = *channel - 1;
    }
    sheet.findings.insert(sheet.findings.end(), prepared.findings.begin(), prepared.findings.end());
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
  command->add_option("--stimulus", harmonics->stimulus,
                      "what was played: its file, or its recipe (default: the recipe inside the capture)");
  command->add_option("--part", harmonics->part, "name of the tone part to measure (default: the first)");
  command->add_flag("--despite-faults", harmonics->despite_faults,
                    "measure a capture that is unfit; stands in the conditions");
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
