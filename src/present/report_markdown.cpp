// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>

#include "report_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/report.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

// Text in which nothing is markup, in one line.
std::string plain(const std::string& from) {
  std::string text;
  for (const char c : printable(from)) {
    if (std::string_view("\\`*_{}[]<>#|!&~").find(c) != std::string_view::npos) text += '\\';
    text += c;
  }
  return text;
}

std::string table_text(const PageTable& table) {
  if (table.rows.empty()) return {};
  std::string text = "\n", under = "|";
  if (!table.title.empty()) text += plain(table.title) + "\n\n";
  text += "|";
  for (const PageColumn& column : table.columns) {
    text += " " + plain(column.heading) + " |";
    under += column.right ? "---:|" : "---|";
  }
  text += "\n" + under + "\n";
  for (const auto& row : table.rows) {
    text += "|";
    for (const PageCell& cell : row) text += " " + plain(plain_cell(cell)) + " |";
    text += "\n";
  }
  return text;
}

}  // namespace

MarkdownReport report_markdown(const Report& report, const std::string& stem) {
  MarkdownReport made;
  std::string& text = made.text;
  text = "# " + plain(report.title) + "\n\n";
  if (!report.by.empty()) text += plain(report.by) + "\n\n";
  for (const auto& sentence : report.answer) text += "**" + plain(plain_sentence(sentence)) + "**\n\n";
  for (const LimitResult& limit : report.limits)
    text += fmt::format("- {}: {}\n", limit.outcome == LimitResult::Outcome::kept ? "kept" : "not kept",
                        plain(limit_words(limit)));
  for (const std::string& remark : report.remarks) text += "\n" + plain(remark) + "\n";
  if (!report.note.empty()) text += "\n" + printable(report.note, true) + "\n";
  for (const ReportSection& section : report.sections) {
    text += "\n## " + plain(section.title) + "\n\n" + plain(section.question) + "\n";
    for (const std::string& line : section.answer) text += "\n" + plain(line) + "\n";
    if (section.picture) {
      const std::string name = fmt::format("{}-{}.png", stem, made.files.size() + 1);
      made.files.emplace_back(name, draw_picture(section.picture->drawn, section.picture->picture));
      text += fmt::format("\n![{}]({})\n", plain(section.picture->says), name);
    }
    for (const PageTable& table : section.tables) text += table_text(table);
    for (const Severity severity : {Severity::fault, Severity::warning})
      for (const Sheet& sheet : section.sheets)
        for (const Finding& finding : sheet.findings)
          if (finding.severity == severity)
            text += fmt::format("\n- {}: {}\n", severity == Severity::fault ? "Fault" : "Warning",
                                plain(finding.text));
  }
  if (!report.commands.empty()) {
    text += "\n## How to repeat it\n\n";
    for (const std::string& command : report.commands) text += "    " + printable(command) + "\n";
  }
  return made;
}

}  // namespace wavicon
