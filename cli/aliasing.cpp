#include "wavicon/measure/aliasing.hpp"

#include <fmt/format.h>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Aliasing {
  SheetOptions sheet;
  IntakeOptions intake;
  AliasingOptions options;
  std::vector<double> band_hz;
};

// The sweep to follow: the one of that name, or the first.
std::size_t sweep_part(const Stimulus& stimulus, const std::string& name) {
  std::vector<std::string> names;
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    if (!std::holds_alternative<Sweep>(stimulus.recipe().parts[i].kind)) continue;
    if (name.empty() || stimulus.parts()[i].name == name) return i;
    names.push_back(stimulus.parts()[i].name);
  }
  if (names.empty())
    throw Error(ErrorCode::bad_argument,
                "the stimulus has no part that is a sweep; make one with 'wavicon make sweep'");
  throw Error(ErrorCode::bad_argument,
              fmt::format("the stimulus has no sweep '{}'{}", name, name_hint(name, names)));
}

Sheet measure(const std::string& path, const Aliasing& command) {
  Capture capture = open_capture(path, command.intake);
  const AudioFileInfo& info = capture.source->info();
  require_channel(command.sheet, info.channel_count);
  if (capture.broken)
    throw Error(
        ErrorCode::bad_input,
        "holds a value that is no number: what wrote it has failed there; 'wavicon health' names the place");
  if (!capture.take)
    throw Error(ErrorCode::bad_argument,
                "aliasing follows a sweep whose course is known: give --stimulus, made with marks");
  AliasingOptions options = command.options;
  options.format = info.format;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  const std::size_t part = sweep_part(*capture.stimulus, command.intake.part);
  capture.conditions.emplace_back("part", capture.stimulus->parts()[part].name);
  Sheet sheet = aliasing_sheet(
      measure_aliasing(*capture.source, *capture.stimulus, part, *capture.take, options), capture_info(info));
  finish(sheet, capture);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

// What each capture does to the worst product of the one before it.
void say_steps(const std::vector<Sheet>& sheets, bool quiet) {
  const Reading* before = nullptr;
  std::string text;
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings) {
      if (r.name != "worst_alias_dbc" || r.channel != sheet.readings[0].channel) continue;
      if (r.bound)
        text +=
            fmt::format("{}: no more than the floor allows (< {:.1f} dBc)\n", sheet.capture.file, *r.value);
      else if (before == nullptr || before->bound)
        text += fmt::format("{}: worst {:.1f} dBc\n", sheet.capture.file, *r.value);
      else
        text +=
            fmt::format("{}: worst {:.1f} dBc, {} by {:.1f} dB\n", sheet.capture.file, *r.value,
                        *r.value < *before->value ? "lower" : "higher", std::abs(*r.value - *before->value));
      before = &r;
    }
  say(quiet, "\n" + text.substr(0, text.size() - (text.empty() ? 0 : 1)));
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
  if (sheets.size() > 1 && !command.sheet.json) say_steps(sheets, command.sheet.quiet);
  return status;
}

}  // namespace

void add_aliasing(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("aliasing", "what folds back: every order of a sweep followed past half the rate");
  auto aliasing = std::make_shared<Aliasing>();
  aliasing->sheet.overlays = true;
  aliasing->sheet.add_to(*command);
  aliasing->intake.add_to(*command, "name of the sweep to follow (default: the first)");
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
