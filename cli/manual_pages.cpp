// SPDX-License-Identifier: MIT
#include "manual_pages.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <sstream>
#include <utility>

#include "commands.hpp"
#include "kinds.hpp"
#include "manual_texts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/examination.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/manual.hpp"
#include "wavicon/version.hpp"

namespace wavicon::cli {
namespace {

using Kind = ManualSpan::Kind;
using Block = ManualBlock::Kind;

ManualBlock paragraph(ManualSpans spans) {
  return {.kind = Block::paragraph, .term = {}, .spans = std::move(spans), .text = {}};
}
ManualBlock heading(const std::string& text) {
  return {.kind = Block::heading, .term = {}, .spans = {{Kind::plain, text}}, .text = {}};
}
ManualBlock verbatim(const std::string& text) {
  return {.kind = Block::verbatim, .term = {}, .spans = {}, .text = text};
}
ManualBlock entry(ManualSpans term, const std::string& text) {
  return {.kind = Block::entry, .term = std::move(term), .spans = {{Kind::plain, text}}, .text = {}};
}
ManualBlock entry(const std::string& term, const std::string& text) {
  return entry(ManualSpans{{Kind::strong, term}}, text);
}

ManualPage begun(const std::string& name, int section, const std::string& line) {
  return {.name = name,
          .section = section,
          .line = line,
          .released = WAVICON_RELEASED,
          .version = WAVICON_VERSION,
          .sections = {}};
}

std::string_view text_of(std::string_view name) {
  for (const ManualText& text : manual_texts())
    if (text.name == name) return text.text;
  return {};
}

// The first line of a document, without what makes it a heading.
std::string title_of(std::string_view document) {
  const std::string line(document.substr(0, document.find('\n')));
  return line.rfind("# ", 0) == 0 ? line.substr(2) : line;
}

// Calls at the end of a command's help: "  wavicon …".
std::string examples_of(const CLI::App& command) {
  std::string calls;
  std::istringstream lines(command.get_footer());
  for (std::string line; std::getline(lines, line);)
    if (line.rfind("  wavicon ", 0) == 0) calls += line.substr(2) + "\n";
  return calls;
}

std::vector<const CLI::Option*> options_of(const CLI::App& app, bool positional) {
  std::vector<const CLI::Option*> options;
  for (const CLI::Option* option : app.get_options())
    // What is in no group is for programs.
    if (option->get_positional() == positional && !option->get_group().empty()) options.push_back(option);
  return options;
}

void add_synopsis(const CLI::App& app, const std::string& call, std::vector<ManualBlock>& blocks) {
  ManualSpans spans = {{Kind::strong, call}};
  for (const CLI::Option* option : options_of(app, true)) {
    std::string name = option->get_name(true, false);
    if (option->get_items_expected_max() > 1) name += "…";
    const bool required = option->get_required();
    spans.push_back({Kind::plain, required ? " " : " ["});
    spans.push_back({Kind::emphasis, name});
    if (!required) spans.push_back({Kind::plain, "]"});
  }
  if (!options_of(app, false).empty()) {
    spans.push_back({Kind::plain, " ["});
    spans.push_back({Kind::emphasis, "OPTION"});
    spans.push_back({Kind::plain, "]…"});
  }
  blocks.push_back(paragraph(std::move(spans)));
}

// "TEXT:{square,sine}" is shown as "square|sine".
std::string shown_kind(const CLI::Option& option, const std::string& command) {
  if (const std::string kind = kind_of(option, command); !kind.empty()) return kind;
  const std::string type = option.get_type_name();
  return type.substr(0, type.find(':'));
}

void add_options(const CLI::App& app, const std::string& command, std::vector<ManualBlock>& blocks) {
  for (const bool positional : {true, false})
    for (const CLI::Option* option : options_of(app, positional)) {
      ManualSpans term;
      if (positional) {
        term.push_back({Kind::emphasis, option->get_name(true, false)});
      } else {
        std::string names = option->get_name(false, true);
        for (std::size_t at = 0; (at = names.find(',', at)) != std::string::npos; at += 2)
          names.replace(at, 1, ", ");
        term.push_back({Kind::strong, names});
        if (option->get_items_expected_max() > 0) {
          term.push_back({Kind::plain, " "});
          term.push_back({Kind::emphasis, shown_kind(*option, command)});
        }
      }
      std::string about = option->get_description();
      if (const std::string usual = option->get_default_str(); !usual.empty())
        about += fmt::format(" (default: {})", usual);
      blocks.push_back(entry(std::move(term), about));
    }
}

void add_readings(const std::string& command, std::vector<ManualSection>& sections) {
  auto tables = reading_tables(measurements());
  if (command == "bench") tables = {&examination_readings()};
  ManualSection section{.title = "READINGS", .blocks = {}};
  for (const ReadingTable* table : tables) {
    if (command != "bench" && table->measurement != command) continue;
    for (const ReadingEntry& reading : table->entries) {
      ManualSpans term = {{Kind::strong, reading.name}};
      if (!reading.unit.empty()) term.push_back({Kind::plain, ", " + reading.unit});
      std::string about = fmt::format("{}: {}", reading.words, reading.definition);
      if (!reading.misleads.empty()) about += fmt::format(" It misleads: {}", reading.misleads);
      section.blocks.push_back(entry(std::move(term), about));
    }
  }
  if (!section.blocks.empty()) sections.push_back(std::move(section));
}

ManualSection exit_statuses() {
  return {
      .title = "EXIT STATUS",
      .blocks = {entry("0", "measured, and all limits kept"), entry("1", "a limit was not kept"),
                 entry("2", "wrong usage"), entry("3", "input that is unreadable or unfit to be measured"),
                 entry("4", "a unit failed: a plugin, a server"), entry("130", "interrupted")}};
}

struct SeeAlso {
  std::string_view command, topic;
};
constexpr SeeAlso kSeeAlso[] = {{"make", "recipes"},   {"show", "recipes"},  {"kit", "recipes"},
                                {"feed", "units"},     {"units", "units"},   {"stand-in", "units"},
                                {"watch", "units"},    {"bench", "plans"},   {"bench", "units"},
                                {"logbook", "sheets"}, {"report", "sheets"}, {"explain", "readings"}};

ManualSection see_also(const std::string& command) {
  ManualSpans spans = {{Kind::strong, "wavicon"}, {Kind::plain, "(1)"}};
  const auto add = [&](const std::string& page) {
    spans.push_back({Kind::plain, ", "});
    spans.push_back({Kind::strong, "wavicon-" + page});
    spans.push_back({Kind::plain, "(7)"});
  };
  bool any = false;
  for (const SeeAlso& also : kSeeAlso)
    if (also.command == command) {
      add(std::string(also.topic));
      any = true;
    }
  if (!any) {
    add("readings");
    add("sheets");
  }
  return {.title = "SEE ALSO", .blocks = {paragraph(std::move(spans))}};
}

}  // namespace

ManualPage command_page(CLI::App& app) {
  CLI::App& command = *app.get_subcommands(nullptr).front();
  const std::string name = command.get_name();
  ManualPage page = begun("wavicon-" + name, 1, command.get_description());
  if (const std::string calls = examples_of(command); !calls.empty())
    page.sections.push_back({.title = "IN SHORT", .blocks = {verbatim(calls)}});

  ManualSection synopsis{.title = "SYNOPSIS", .blocks = {}};
  const auto below = command.get_subcommands(nullptr);
  if (below.empty() || !options_of(command, false).empty())
    add_synopsis(command, "wavicon " + name, synopsis.blocks);
  for (CLI::App* one : below)
    add_synopsis(*one, fmt::format("wavicon {} {}", name, one->get_name()), synopsis.blocks);
  page.sections.push_back(std::move(synopsis));

  // A topic of that name is a page of its own.
  const auto& topics = manual_topics();
  if (const auto text = text_of(name);
      !text.empty() && std::find(topics.begin(), topics.end(), name) == topics.end())
    page.sections.push_back({.title = "DESCRIPTION", .blocks = manual_blocks(text)});

  ManualSection options{.title = "OPTIONS", .blocks = {}};
  add_options(command, name, options.blocks);
  for (CLI::App* one : below) {
    options.blocks.push_back(
        heading(fmt::format("{} {}: {}", name, one->get_name(), one->get_description())));
    add_options(*one, name, options.blocks);
  }
  page.sections.push_back(std::move(options));
  add_readings(name, page.sections);
  page.sections.push_back(exit_statuses());
  page.sections.push_back(see_also(name));
  return page;
}

ManualPage program_page(CLI::App& app) {
  ManualPage page = begun("wavicon", 1, "feeds known signals through a chain, and measures what came back");
  page.sections.push_back(
      {.title = "IN SHORT",
       .blocks = {verbatim("wavicon make sweep -o sweep.wav\n"
                           "wavicon feed sweep.wav --through 'sim:tern?drive=12' -o back.wav\n"
                           "wavicon aliasing back.wav\n")}});
  page.sections.push_back(
      {.title = "SYNOPSIS",
       .blocks = {
           paragraph({{Kind::strong, "wavicon"},
                      {Kind::plain, " "},
                      {Kind::emphasis, "COMMAND"},
                      {Kind::plain, " ["},
                      {Kind::emphasis, "OPTION"},
                      {Kind::plain, "]…"}}),
           paragraph({{Kind::strong, "wavicon help"}, {Kind::plain, " "}, {Kind::emphasis, "COMMAND"}})}});
  ManualSection commands{.title = "COMMANDS", .blocks = {}};
  std::vector<std::string> groups;
  for (CLI::App* command : app.get_subcommands(nullptr))
    if (std::find(groups.begin(), groups.end(), command->get_group()) == groups.end())
      groups.push_back(command->get_group());
  std::sort(groups.begin(), groups.end());
  for (const std::string& group : groups) {
    commands.blocks.push_back(heading(group));
    for (CLI::App* command : app.get_subcommands(nullptr))
      if (command->get_group() == group)
        commands.blocks.push_back(entry(command->get_name(), command->get_description()));
  }
  page.sections.push_back(std::move(commands));
  page.sections.push_back(exit_statuses());
  page.sections.push_back(
      {.title = "ENVIRONMENT",
       .blocks = {entry("WAVICON_LOGBOOK", "the logbook: a file, or postgresql://…"),
                  entry("LV2_PATH, LADSPA_PATH", "where plugins are looked for"),
                  entry("XDG_CACHE_HOME", "where it is remembered which plugins there are"),
                  entry("SOURCE_DATE_EPOCH", "when sheets were made, in place of now"),
                  entry("NO_COLOR", "nothing is printed in colour"),
                  entry("PAGER", "what 'wavicon help' shows long pages with")}});
  ManualSpans also;
  for (CLI::App* command : app.get_subcommands(nullptr)) {
    also.push_back({Kind::strong, "wavicon-" + command->get_name()});
    also.push_back({Kind::plain, "(1), "});
  }
  for (const std::string& topic : manual_topics()) {
    also.push_back({Kind::strong, "wavicon-" + topic});
    also.push_back({Kind::plain, topic == manual_topics().back() ? "(7)" : "(7), "});
  }
  page.sections.push_back({.title = "SEE ALSO", .blocks = {paragraph(std::move(also))}});
  return page;
}

const std::vector<std::string>& manual_topics() {
  static const std::vector<std::string> kTopics = {"plans", "readings", "recipes", "sheets", "units"};
  return kTopics;
}

std::optional<ManualPage> topic_page(const std::string& topic) {
  if (std::find(manual_topics().begin(), manual_topics().end(), topic) == manual_topics().end())
    return std::nullopt;
  std::string document;
  if (topic == "readings") {
    auto tables = reading_tables(measurements());
    tables.push_back(&examination_readings());
    document = readings_manual(tables);
  } else {
    document = text_of(topic);
  }
  ManualPage page = begun("wavicon-" + topic, 7, title_of(document));
  page.sections.push_back({.title = "DESCRIPTION", .blocks = manual_blocks(document)});
  page.sections.push_back(
      {.title = "SEE ALSO", .blocks = {paragraph({{Kind::strong, "wavicon"}, {Kind::plain, "(1)"}})}});
  return page;
}

}  // namespace wavicon::cli
