#include "wavicon/measure/aliasing.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Aliasing {
  SheetOptions sheet;
  IntakeOptions intake;
  AliasingOptions options;
  std::vector<double> band_hz;
  std::string reference;
};

// The part to measure: the one of that name, or the first sweep, or the first staircase.
std::size_t part_to_measure(const Stimulus& stimulus, const std::string& name) {
  std::vector<std::string> names;
  for (const char* kind : {"sweep", "staircase"})
    for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
      if (stimulus.parts()[i].kind != kind) continue;
      if (name.empty() || stimulus.parts()[i].name == name) return i;
      names.push_back(stimulus.parts()[i].name);
    }
  if (names.empty())
    throw Error(
        ErrorCode::bad_argument,
        "the stimulus has no part that is a sweep or a staircase; make one with 'wavicon make sweep'");
  throw Error(ErrorCode::bad_argument,
              fmt::format("the stimulus has no sweep or staircase '{}'{}", name, name_hint(name, names)));
}

// A sweep from elsewhere: what it is, as a stimulus, and where the capture holds it.
void find_reference(const Aliasing& command, Capture& capture) {
  FileSource reference(command.reference);
  if (reference.sample_rate_hz() != capture.source->sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} is at {:g} Hz: a reference needs the capture's sample rate",
                            command.reference, reference.sample_rate_hz()));
  const auto found = recognise_sweep(reference);
  if (!found)
    throw Error(ErrorCode::bad_input,
                command.reference +
                    ": is not one clean sweep, exponential or linear, from its first sound to its last");
  const int channel = command.sheet.channel.value_or(1) - 1;
  const auto alignment = align(reference, *capture.source, {.capture_channel = channel});
  if (!alignment)
    throw Error(ErrorCode::bad_input,
                fmt::format("does not hold {}: too little in common", command.reference));
  Recipe recipe{
      .name = "reference", .sample_rate_hz = reference.sample_rate_hz(), .bits = 32, .marks = false};
  recipe.parts.push_back({.name = "sweep", .kind = found->sweep});
  capture.stimulus = std::make_unique<Stimulus>(recipe);
  Take take;
  take.channel = channel;
  take.frames_per_frame = alignment->frames_per_frame;
  take.first_frame =
      alignment->delay_frames + static_cast<double>(found->first_frame) * alignment->frames_per_frame;
  take.drift_ppm = alignment->drift_ppm;
  capture.take = take;
  capture.conditions.emplace_back("reference", command.reference);
  capture.findings.push_back({Severity::note,
                              fmt::format("the reference is {} sweep from {:.2f} Hz to {:.1f} Hz in {:.3f} s",
                                          found->sweep.law == "log" ? "an exponential" : "a linear",
                                          found->sweep.from_hz, found->sweep.to_hz, found->sweep.seconds),
                              std::nullopt});
}

Sheet measure(const std::string& path, const Aliasing& command) {
  Capture capture = open_capture(path, command.intake);
  const AudioFileInfo& info = capture.source->info();
  require_channel(command.sheet, info.channel_count);
  if (capture.broken)
    throw Error(
        ErrorCode::bad_input,
        "holds a value that is no number: what wrote it has failed there; 'wavicon health' names the place");
  if (!command.reference.empty()) find_reference(command, capture);
  if (!capture.take)
    throw Error(ErrorCode::bad_argument,
                "aliasing follows a sweep whose course is known: give --stimulus, made with marks, or the "
                "clean sweep "
                "as --reference");
  AliasingOptions options = command.options;
  options.format = info.format;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  const std::size_t part = part_to_measure(*capture.stimulus, command.intake.part);
  capture.conditions.emplace_back("part", capture.stimulus->parts()[part].name);
  const bool steps = capture.stimulus->parts()[part].kind == "staircase";
  const AliasingResult result =
      steps ? measure_aliasing_steps(*capture.source, *capture.stimulus, part, *capture.take, options)
            : measure_aliasing(*capture.source, *capture.stimulus, part, *capture.take, options);
  Sheet sheet = aliasing_sheet(result, capture_info(info));
  finish(sheet, capture);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

int run(const Aliasing& command) {
  command.sheet.check();
  const auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(path, command); });
  const int status = deliver(command.sheet, sheets, [](const std::vector<Sheet>& all, bool svg) {
    CurveStyle style{.names = {"worst fold-back"},
                     .title = "What folds back: the strongest product while the sweep passes",
                     .x_title = "frequency of the sweep, Hz",
                     .y_title = "relative to the fundamental, dBc",
                     .log_frequency = true,
                     .lowest_x = 300,
                     .shown_range = 200};
    if (all.size() == 1) style.names.push_back("strongest harmonic");
    return draw_curves(all, style, {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
  if (sheets.size() > 1 && !command.sheet.json)
    say(command.sheet.quiet, fmt::format("\n{}", fmt::join(aliasing_verdicts(sheets), "\n")));
  return status;
}

}  // namespace

void add_aliasing(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("aliasing", "what folds back: every order of a sweep followed past half the rate");
  auto aliasing = std::make_shared<Aliasing>();
  aliasing->sheet.overlays = true;
  aliasing->sheet.add_to(*command);
  aliasing->intake.add_to(*command, "name of the sweep or staircase to follow (default: the first sweep)");
  command->add_option("--reference", aliasing->reference,
                      "the clean sweep that went in, when it was not made by Wavicon");
  command->add_option("--orders", aliasing->options.highest_order, "highest order that is followed, 2 to 120")
      ->capture_default_str();
  command
      ->add_option("--band", aliasing->band_hz, "FROM TO in Hz, of the folded products (default: 20 20000)")
      ->expected(2);
  command
      ->add_option("--listening-level", aliasing->options.full_scale_spl_db,
                   "dB SPL at which full scale is assumed to play, for the hint on hearing")
      ->capture_default_str();
  command->callback([aliasing, &action] { action = [aliasing] { return run(*aliasing); }; });
}

}  // namespace wavicon::cli
