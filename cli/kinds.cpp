// SPDX-License-Identifier: MIT
#include "kinds.hpp"

#include <algorithm>
#include <array>

#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::cli {
namespace {

struct Named {
  std::string_view option, kind;
};
// Options that mean the same everywhere, and what stands without a dash.
constexpr Named kKinds[] = {{"CAPTURE", "AUDIO"},
                            {"FILES", "AUDIO"},
                            {"FILE", "AUDIO"},
                            {"STIMULUS", "AUDIO"},
                            {"SOURCE", "AUDIO"},
                            {"UNIT", "UNIT"},
                            {"READING", "READING"},
                            {"SHEET", "SHEET"},
                            {"RECIPE", "RECIPE"},
                            {"FOLDER", "FOLDER"},
                            {"PLAN", "PLAN"},
                            {"NAME", "STAND-IN"},
                            {"COMMAND", "COMMAND"},
                            {"SHELL", "bash|zsh|fish"},
                            {"--stimulus", "AUDIO|RECIPE"},
                            {"--reference", "AUDIO"},
                            {"--through", "UNIT"},
                            {"--part", "PART"},
                            {"--plot", "PICTURE"},
                            {"--logo", "PICTURE"},
                            {"--report", "PAGE"},
                            {"--template", "PAGE"},
                            {"--note", "TEXT"},
                            {"--sheet", "SHEET"},
                            {"--csv", "CSV"},
                            {"--junit", "XML"},
                            {"--limit", "LIMIT"},
                            {"--until", "LIMIT"},
                            {"--recipe", "RECIPE"},
                            {"--save-recipe", "RECIPE"},
                            {"--save", "PLAN"},
                            {"--plan", "READY-PLAN"},
                            {"--of", "MEASUREMENT"},
                            {"--captures", "FOLDER"},
                            {"--folder", "FOLDER"},
                            {"--pages", "FOLDER"},
                            {"--logbook", "LOGBOOK"},
                            {"--play", "tone|sweep|noise|marks|RECIPE"}};

// Where one name means several things.
struct Meaning {
  std::string_view command, option, kind;
};
constexpr Meaning kMeanings[] = {
    {"make", "--output", "AUDIO"},    {"feed", "--output", "AUDIO"}, {"kit", "--output", "FOLDER"},
    {"logbook", "--output", "SHEET"}, {"logbook", "--until", "DAY"}, {"logbook", "--since", "DAY"},
    {"report", "--output", "PAGE"},   {"report", "SHEET", "SHEET"},  {"completion", "--output", "FILE"}};

struct Endings {
  std::string_view kind;
  std::array<std::string_view, 10> endings;
};
constexpr Endings kEndings[] = {
    {"AUDIO", {".wav", ".flac", ".aif", ".aiff", ".w64", ".rf64", ".caf", ".ogg", ".mp3", ".au"}},
    {"RECIPE", {".toml"}},
    {"PLAN", {".toml"}},
    {"SHEET", {".json"}},
    {"PICTURE", {".png", ".svg"}},
    {"PAGE", {".html", ".md", ".pdf"}},
    {"TEXT", {".md", ".txt"}},
    {"CSV", {".csv"}},
    {"XML", {".xml"}},
    {"LOGBOOK", {".sqlite"}}};

// "TEXT:{square,sine}": what a check allows.
std::string words_of_check(const std::string& type) {
  const auto open = type.find('{'), close = type.find('}');
  if (open == std::string::npos || close == std::string::npos) return {};
  std::string words = type.substr(open + 1, close - open - 1);
  std::replace(words.begin(), words.end(), ',', '|');
  return words;
}

std::string name_of(const CLI::Option& option) {
  return option.get_positional() ? option.get_name(true, false) : option.get_name(false, false);
}

}  // namespace

std::string kind_of(const CLI::Option& option, std::string_view command) {
  if (option.get_items_expected_max() == 0) return {};
  const std::string name = name_of(option);
  for (const Meaning& meaning : kMeanings)
    if (meaning.command == command && meaning.option == name) return std::string(meaning.kind);
  if (const MeasurementDescriptor* measurement = find_measurement(measurements(), command)) {
    for (const ExtraInput& input : measurement->inputs)
      if (name == "--" + input.name) return "AUDIO";
    for (const ExtraOutput& output : measurement->outputs)
      if (name == "--" + output.name) return output.several ? "FOLDER" : "AUDIO";
  }
  const std::string type = option.get_type_name();
  if (const std::string words = words_of_check(type); !words.empty()) return words;
  if (type.find('|') != std::string::npos) return type;
  for (const Named& named : kKinds)
    if (named.option == name) return std::string(named.kind);
  return {};
}

std::vector<std::string> endings_of(std::string_view kind, bool& folders, bool& files) {
  folders = kind == "FOLDER";
  files = kind == "FILE";
  for (const Endings& known : kEndings) {
    if (known.kind != kind) continue;
    files = true;
    std::vector<std::string> endings;
    for (const std::string_view ending : known.endings)
      if (!ending.empty()) endings.emplace_back(ending);
    return endings;
  }
  return {};
}

void name_kinds(CLI::App& command) {
  const CLI::App* top = &command;
  while (top->get_parent() != nullptr && top->get_parent()->get_parent() != nullptr) top = top->get_parent();
  for (CLI::Option* option : command.get_options()) {
    const std::string kind = kind_of(*option, top->get_name());
    const bool checked = option->get_type_name().find('{') != std::string::npos;
    // What stands without a dash may be called by its kind already.
    if (!kind.empty() && !checked) option->type_name(kind == name_of(*option) ? "" : kind);
  }
  for (CLI::App* below : command.get_subcommands(nullptr)) name_kinds(*below);
}

}  // namespace wavicon::cli
