#include "wavicon/measure/waveforms.hpp"

#include <fmt/format.h>

#include <memory>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Waveforms {
  SheetOptions sheet;
  IntakeOptions intake;
};

int run(const Waveforms& command) {
  command.sheet.check();
  const std::string& reference = command.sheet.captures.front();
  Capture a = open_played(reference, command.intake);
  const auto sheets = measure_each(command.sheet, [&](const std::string& path) {
    Capture b = open_answer(path, reference, command.intake);
    require_channel(command.sheet, b.source->channel_count());
    Sheet sheet = waveforms_sheet(
        measure_waveforms(*a.source, *b.source, *a.stimulus, *a.take, *b.take, command.intake.part),
        capture_info(a.source->info()), capture_info(b.source->info()));
    finish(sheet, b);
    keep_channel(sheet, command.sheet.channel);
    return sheet;
  });
  return deliver(command.sheet, sheets, [&](const std::vector<Sheet>& all, bool svg) {
    return draw_waveforms(all.front(), {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
}

}  // namespace

void add_waveforms(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "waveforms", "in over out: periods of tones as they went in and came back, and what changed in words");
  auto waveforms = std::make_shared<Waveforms>();
  waveforms->sheet.against = true;
  waveforms->sheet.add_to(*command);
  waveforms->intake.add_to(*command, "tone or staircase to look at (default: all of them)");
  command->callback([waveforms, &action] { action = [waveforms] { return run(*waveforms); }; });
}

}  // namespace wavicon::cli
