// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <memory>

#include "commands.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

std::string range_text(const SettingInfo& s) {
  if (s.toggle) return "0 or 1";
  std::string text = s.choices_only ? "" : fmt::format("{:.6g} to {:.6g}", s.minimum, s.maximum);
  for (const SettingChoice& choice : s.choices) {
    const std::string number = fmt::format("{:.6g}", choice.value);
    text += fmt::format("{}{}{}", text.empty() ? "" : ", ", number,
                        choice.label == number ? "" : " = " + choice.label);
  }
  if (s.integer && s.choices.empty()) text += ", whole";
  return s.logarithmic ? text + ", logarithmic" : text;
}

void show_states(const UnitInfo& info) {
  if (!info.enabled_setting.empty())
    print(fmt::format("\nbypass=1 switches it off ({}=0)\n", info.enabled_setting));
  if (!info.presets.empty())
    print(fmt::format("\npreset=NAME sets all of them: {}\n", fmt::join(info.presets, " · ")));
  if (info.takes_state) print("\nstate=FILE restores what was saved of it\n");
  for (const std::string& remark : info.remarks) print(fmt::format("\nwarning: {}\n", remark));
}

int show_unit(const std::string& name) {
  const auto unit = open_unit(parse_unit(name), own_units());
  const UnitInfo& info = unit->info();
  const bool any = info.input_count == 0 && info.output_count == 0;
  print(fmt::format("{}: {}{}, {}\n", info.name, info.title, info.maker.empty() ? "" : ", " + info.maker,
                    any ? "as many channels as the signal has"
                        : fmt::format("{} in, {} out", info.input_count, info.output_count)));
  if (info.settings.empty()) {
    print("it has no settings\n");
    show_states(info);
    return exit_status::measured;
  }
  std::vector<std::vector<std::string>> rows = {{"", "setting", "default", "unit", "range", "name"}};
  for (const SettingInfo& s : info.settings)
    rows.push_back({"", s.symbol, fmt::format("{:.6g}", s.default_value), s.unit, range_text(s), s.name});
  print("\n" + aligned(rows, {false, false, true}));
  show_states(info);
  return exit_status::measured;
}

int list() {
  std::vector<std::vector<std::string>> rows = {{"unit", "in", "out", "name"}};
  for (const UnitListing& unit : list_units(own_units())) {
    const bool any = unit.input_count == 0 && unit.output_count == 0 && unit.refused.empty();
    rows.push_back({unit.name, any ? "any" : std::to_string(unit.input_count),
                    any ? "any" : std::to_string(unit.output_count),
                    unit.title + (unit.refused.empty() ? "" : " (cannot be hosted: " + unit.refused + ")")});
  }
  print(aligned(rows, {false, true, true}));
  return exit_status::measured;
}

}  // namespace

void add_units(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("units", "what can a signal be fed through, and what can be set?");
  auto name = std::make_shared<std::string>();
  command->add_option("UNIT", *name,
                      "SCHEME:NAME, for example sim:tern or lv2:URI; without it, all units are listed");
  command->callback(
      [name, &action] { action = [name] { return name->empty() ? list() : show_unit(*name); }; });
}

}  // namespace wavicon::cli
