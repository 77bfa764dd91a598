#include "wavicon/measure/dynamics.hpp"

#include <fmt/format.h>

#include <memory>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Dynamics {
  SheetOptions sheet;
  IntakeOptions intake;
  PanelValues panel;
  std::string draw = "static";
};

Sheet measure(const Dynamics& command, Capture& a, const std::string& path) {
  Capture b = open_answer(path, command.sheet.captures.front(), command.intake);
  require_channel(command.sheet, b.source->channel_count());
  Sheet sheet = dynamics_sheet(
      measure_dynamics(*a.source, *b.source, *a.stimulus, *a.take, *b.take, command.intake.part),
      capture_info(a.source->info()), capture_info(b.source->info()), command.panel);
  finish(sheet, b);
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

std::string draw(const Dynamics& command, const std::vector<Sheet>& sheets, bool svg) {
  const PlotOptions options{.format = svg ? PlotFormat::svg : PlotFormat::png};
  if (command.draw == "gain") return draw_gain(sheets, options);
  CurveStyle style{.names = {},
                   .title = "Level out over level in",
                   .x_title = "level in, dBFS",
                   .y_title = "level out, dBFS",
                   .shown_range = 120};
  std::string wanted = "static curve";
  if (command.draw == "attack" || command.draw == "release") {
    wanted = command.draw + " shape";
    style.title =
        command.draw == "attack" ? "Attacks brought to one time scale" : "Releases brought to one time scale";
    style.x_title = "time over the time to 63 %";
    style.y_title = "share of the change in dB, %";
  }
  for (const Sheet& sheet : sheets)
    for (const Curve& curve : sheet.curves)
      if (curve.name.rfind(wanted, 0) == 0 &&
          std::find(style.names.begin(), style.names.end(), curve.name) == style.names.end())
        style.names.push_back(curve.name);
  return draw_curves(sheets, style, options);
}

int run(const Dynamics& command) {
  command.sheet.check();
  const std::string& reference = command.sheet.captures.front();
  Capture a = open_played(reference, command.intake);
  const auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(command, a, path); });
  return deliver(command.sheet, sheets,
                 [&](const std::vector<Sheet>& all, bool svg) { return draw(command, all, svg); });
}

}  // namespace

void add_dynamics(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "dynamics", "threshold, ratio, knee, attack and release of B against A, from a staircase and a block");
  auto dynamics = std::make_shared<Dynamics>();
  dynamics->sheet.overlays = dynamics->sheet.against = true;
  dynamics->sheet.add_to(*command);
  dynamics->intake.add_to(*command, "measure this staircase or block alone (default: all of them)");
  command->add_option("--panel-attack", dynamics->panel.attack_ms, "what the unit's panel says, in ms")
      ->check(CLI::PositiveNumber);
  command->add_option("--panel-release", dynamics->panel.release_ms, "what the unit's panel says, in ms")
      ->check(CLI::PositiveNumber);
  command
      ->add_option(
          "--draw", dynamics->draw,
          "what --plot draws: the static curve, the gain over time, or attacks or releases on one time scale")
      ->check(CLI::IsMember({"static", "gain", "attack", "release"}))
      ->capture_default_str();
  command->callback([dynamics, &action] { action = [dynamics] { return run(*dynamics); }; });
}

}  // namespace wavicon::cli
