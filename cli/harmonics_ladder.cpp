#include "wavicon/measure/harmonics_ladder.hpp"

#include <fmt/format.h>

#include <cmath>
#include <utility>

#include "harmonics.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

// Harmonics of every step of a staircase.
std::vector<LadderStep> climb(const Harmonics& command, Capture& capture, const PlacedPart& part) {
  const auto index = static_cast<std::size_t>(&part - capture.stimulus->parts().data());
  const auto& staircase = std::get<Staircase>(capture.stimulus->recipe().parts[index].kind);
  HarmonicsOptions options = options_for(command, capture);
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

}  // namespace

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

}  // namespace wavicon::cli
