// SPDX-License-Identifier: MIT
#include "wavicon/present/page_text.hpp"

#include <fmt/format.h>

#include <sstream>
#include <vector>

#include "reading_text.hpp"
#include "table_parts.hpp"
#include "wavicon/audio/plain_text.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

std::string with_unit(const std::string& text, const std::string& unit) {
  return unit.empty() ? text : text + " " + unit;
}

std::string figure_text(const Reading& reading, bool unit) {
  if (!reading.text.empty()) return reading.text;
  const ValueText value = value_for_person(reading);
  const std::string number =
      value.uncertainty.empty() ? value.number : fmt::format("{} {}", value.number, value.uncertainty);
  return unit ? with_unit(number, value.unit) : number;
}

std::string change_text(const FigureChange& change, bool unit) {
  std::string number = number_text(change.value, change.entry, change.uncertainty);
  if (number[0] != '-') number = "+" + number;
  const Reading size{
      .value = change.value, .unit = change.unit, .uncertainty = change.uncertainty, .entry = change.entry};
  if (const std::string sure = uncertainty_text(size); !sure.empty()) number += " " + sure;
  return unit ? with_unit(number, change.unit) : number;
}

std::string cell_text(const PageCell& cell, bool unit) {
  if (const auto* reading = std::get_if<Reading>(&cell)) return figure_text(*reading, unit);
  if (const auto* change = std::get_if<FigureChange>(&cell)) return change_text(*change, unit);
  return printable(std::get<std::string>(cell));
}

std::string sentence_text(const std::vector<PageCell>& sentence) {
  std::string line;
  for (const PageCell& piece : sentence) line += cell_text(piece, true);
  return line;
}

std::string aside_lines(const std::string& text, const TableStyle& style) {
  std::istringstream lines(wrapped_text(printable(text), "", "    ", style.columns));
  std::string result;
  for (std::string line; std::getline(lines, line);) result += aside_text(line, style);
  return result;
}

}  // namespace

std::string page_title(const Page& page) {
  return page.answer.empty() ? "" : sentence_text(page.answer.front());
}

std::string page_text(const Page& page, const TableStyle& style) {
  std::string text;
  for (const auto& sentence : page.answer) text += answer_text(sentence_text(sentence), style);
  if (!page.under.empty()) {
    std::string under;
    for (const auto& [name, value] : page.under)
      under += (under.empty() ? "under: " : ", ") + condition_text(name, value);
    text += aside_lines(under, style);
  }
  for (const PageTable& table : page.tables) {
    if (table.rows.empty()) continue;
    std::vector<std::vector<std::string>> rows(1);
    std::vector<bool> right;
    for (const PageColumn& column : table.columns) {
      rows.front().push_back(column.heading);
      right.push_back(column.right);
    }
    for (const auto& row : table.rows) {
      rows.emplace_back();
      for (const PageCell& cell : row) rows.back().push_back(cell_text(cell, true));
    }
    if (!text.empty()) text += "\n";
    if (!table.title.empty()) text += table.title + "\n";
    text += aligned_within(rows, right, style.columns);
  }
  if (!page.remarks.empty() && !text.empty()) text += "\n";
  for (const std::string& remark : page.remarks) text += aside_lines(remark, style);
  return text;
}

}  // namespace wavicon
