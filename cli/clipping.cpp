#include "wavicon/measure/clipping.hpp"

#include <memory>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/measure/harmonics.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Clipping {
  SheetOptions sheet;
  IntakeOptions intake;
  ClippingOptions options;
  std::optional<double> tone_hz;
  std::string draw = "thd";
};

// The part whose level climbs: the one of that name, else the first.
std::optional<std::size_t> climbing_part(const Stimulus& stimulus, const std::string& name) {
  std::vector<std::string> names;
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    const PartKind& kind = stimulus.recipe().parts[i].kind;
    const auto* tones = std::get_if<Multitone>(&kind);
    const bool ramp = tones != nullptr && tones->oscillators.size() == 1 && tones->oscillators[0].to_dbfs;
    if (!std::holds_alternative<Staircase>(kind) && !ramp) continue;
    names.push_back(stimulus.parts()[i].name);
    if (name.empty() || names.back() == name) return i;
  }
  if (!name.empty())
    throw Error(ErrorCode::bad_argument,
                fmt::format("the stimulus has no staircase or ramp '{}'{}", name, name_hint(name, names)));
  return std::nullopt;
}

Sheet measure(const Clipping& command, const std::string& path) {
  // Clipping is what is looked for: it does not make the capture unfit.
  IntakeOptions intake = command.intake;
  intake.despite_faults = true;
  Capture capture = open_capture(path, intake);
  if (capture.broken)
    throw Error(ErrorCode::bad_input, "holds a value that is no number; 'wavicon health' names the place");
  if (!command.intake.despite_faults) capture.conditions.clear();
  std::erase_if(capture.findings, [](const Finding& f) { return f.text.find("clip") != std::string::npos; });
  require_channel(command.sheet, capture.source->channel_count());
  const CaptureInfo info = capture_info(capture.source->info());
  const bool whole = command.sheet.from_s == 0 && !command.sheet.to_s && !command.tone_hz;
  const auto part =
      capture.take && whole ? climbing_part(*capture.stimulus, command.intake.part) : std::nullopt;
  Sheet sheet;
  if (part) {
    sheet = clipping_sheet(
        measure_clipping(*capture.source, *capture.stimulus, *part, *capture.take, command.options), info);
  } else {
    ClippingOptions options = command.options;
    const StretchS stretch = stretch_of(capture, command.sheet, command.intake.part);
    options.from_s = stretch.from_s;
    options.to_s = stretch.to_s;
    double tone_hz = command.tone_hz.value_or(0);
    if (!command.tone_hz) {
      const auto& source = *capture.source;
      const double rate = source.sample_rate_hz();
      const auto from = static_cast<std::int64_t>(options.from_s * rate);
      const auto frames =
          std::min(static_cast<std::int64_t>(options.to_s.value_or(1e9) * rate), source.frames()) - from;
      // Its start tells the frequency: before the knob was turned.
      const auto found = measure_harmonics(
          read_stretch(*capture.source, from, std::min(frames, static_cast<std::int64_t>(10 * rate))));
      const ChannelHarmonics& first =
          found.channels.at(static_cast<std::size_t>(command.sheet.channel.value_or(1) - 1));
      if (first.state != ChannelHarmonics::State::measured)
        throw Error(ErrorCode::bad_input,
                    "no steady tone is found in it: name its frequency by --tone, or send a staircase");
      tone_hz = first.fundamental_hz;
    }
    sheet = clipping_sheet(measure_clipping(*capture.source, tone_hz, options), info);
    sheet.findings.push_back(
        {Severity::note,
         "no staircase or ramp is known to be in it: taken for a steady tone whose level somebody turns up",
         std::nullopt});
  }
  finish(sheet, capture);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

std::string draw(const Clipping& command, const std::vector<Sheet>& sheets, bool svg) {
  const bool gain = command.draw == "gain";
  const bool over_time = std::any_of(sheets.begin(), sheets.end(), [](const Sheet& s) {
    return std::none_of(s.curves.begin(), s.curves.end(), [](const Curve& c) { return c.name == "gain"; });
  });
  return draw_curves(sheets,
                     {.names = {gain ? "gain" : "THD"},
                      .title = gain        ? "Gain over the level of the stimulus"
                               : over_time ? "THD over time"
                                           : "THD over the level of the stimulus",
                      .x_title = over_time ? "time, s" : "level in, dBFS",
                      .y_title = gain ? "dB" : "THD, dB",
                      .shown_range = 120},
                     {.format = svg ? PlotFormat::svg : PlotFormat::png});
}

int run(const Clipping& command) {
  command.sheet.check();
  const auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(command, path); });
  return deliver(command.sheet, sheets,
                 [&](const std::vector<Sheet>& all, bool svg) { return draw(command, all, svg); });
}

}  // namespace

void add_clipping(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "clipping",
      "at which level does it start to clip, and how: from a staircase, a ramp, or a tone turned up by hand");
  auto clipping = std::make_shared<Clipping>();
  clipping->sheet.overlays = true;
  clipping->sheet.add_to(*command);
  clipping->intake.add_to(*command, "staircase or ramp of the stimulus to measure (default: the first)");
  command->add_option("--thd", clipping->options.thd_percent, "THD in % that counts as clipping")
      ->capture_default_str();
  command
      ->add_option("--fall", clipping->options.compression_db,
                   "fall of the gain in dB that counts as clipping")
      ->capture_default_str();
  command
      ->add_option("--alignment", clipping->options.alignment_dbfs, "level in dBFS that headroom counts from")
      ->capture_default_str();
  command->add_option("--tone", clipping->tone_hz,
                      "frequency in Hz of a tone turned up by hand (default: the strongest)");
  command->add_option("--draw", clipping->draw, "what --plot draws: THD or gain")
      ->check(CLI::IsMember({"thd", "gain"}))
      ->capture_default_str();
  command->callback([clipping, &action] { action = [clipping] { return run(*clipping); }; });
}

}  // namespace wavicon::cli
