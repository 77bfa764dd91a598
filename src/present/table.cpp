// SPDX-License-Identifier: MIT
#include "wavicon/present/table.hpp"

#include "reading_text.hpp"
#include "table_parts.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/sheet/catalogue.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace wavicon {
namespace {

using namespace present_detail;

std::string joined(const Conditions& conditions, const char* separator) {
  std::string text;
  for (const auto& [name, value] : conditions)
    text += (text.empty() ? "" : separator) + condition_text(name, value);
  return text;
}

// Circumstances in lines that fit; or in one, as far as that goes.
std::string wrapped(Conditions conditions, const TableStyle& style, const std::string& more) {
  const bool one_line = !more.empty();
  const std::size_t room =
      style.columns > width(more) + 3 && one_line ? style.columns - width(more) - 3 : style.columns;
  // What must not be overlooked comes first, then what was measured of what.
  const auto rank = [](const std::pair<std::string, ConditionValue>& condition) {
    constexpr std::array kFirst = {"despite_faults", "part", "reference", "bandwidth_hz"};
    return std::find(kFirst.begin(), kFirst.end(), condition.first) - kFirst.begin();
  };
  if (one_line)
    std::stable_sort(conditions.begin(), conditions.end(),
                     [&](const auto& a, const auto& b) { return rank(a) < rank(b); });
  std::string text, line;
  for (const auto& [name, value] : conditions) {
    const std::string words = printable(condition_text(name, value));
    if (!line.empty() && width(line) + 5 + width(words) > room) {
      if (one_line) continue;
      text += inked("  " + line + " ·", Ink::aside, style) + "\n";
      line.clear();
    }
    line += (line.empty() ? "" : " · ") + words;
  }
  if (one_line && width(line) + 5 + width(more) > style.columns) {
    text += inked("  " + line, Ink::aside, style) + "\n";
    line.clear();
  }
  if (one_line) line += (line.empty() ? "" : " · ") + more;
  return text + inked("  " + line, Ink::aside, style) + "\n";
}

std::string channel_table(const std::vector<const Reading*>& readings, const TableStyle& style) {
  const bool floors =
      std::any_of(readings.begin(), readings.end(), [](const Reading* r) { return r->floor.has_value(); });
  const bool unsure = std::any_of(readings.begin(), readings.end(),
                                  [](const Reading* r) { return !uncertainty_text(*r).empty(); });
  std::vector<std::vector<std::string>> rows = {{"", "reading", "value"}};
  const auto add = [&](std::initializer_list<std::string> cells) {
    rows.back().insert(rows.back().end(), cells);
  };
  if (unsure) add({"k = 2"});
  add({"", floors ? "own floor" : "", "", ""});
  for (const Reading* r : readings) {
    Conditions own;
    for (const auto& condition : r->conditions)
      if (!shared_by_all(condition, readings)) own.push_back(condition);
    rows.push_back({"", r->name, value_text(*r)});
    if (unsure) add({uncertainty_text(*r)});
    add({r->value ? r->unit : "", r->floor ? number_text(*r->floor, r->entry) : "", r->floor ? r->unit : "",
         joined(own, ", ")});
  }
  Conditions common;
  for (const auto& condition : readings.front()->conditions)
    if (shared_by_all(condition, readings)) common.push_back(condition);
  std::vector<bool> right = {false, false, true, false, true, false, false};
  if (unsure) right.insert(right.begin() + 3, false);
  std::string text = aligned_within(rows, right, style.columns);
  if (!common.empty()) text += "\n" + wrapped(common, style, "");
  return text;
}

}  // namespace

std::string aligned(const std::vector<std::vector<std::string>>& from,
                    const std::vector<bool>& right_aligned) {
  std::vector<std::vector<std::string>> rows = from;
  for (auto& row : rows)
    for (std::string& cell : row) cell = printable(cell);
  std::vector<std::size_t> widths;
  for (const auto& row : rows) {
    widths.resize(std::max(widths.size(), row.size()), 0);
    for (std::size_t i = 0; i < row.size(); ++i) widths[i] = std::max(widths[i], width(row[i]));
  }
  std::string text;
  for (const auto& row : rows) {
    std::string line;
    for (std::size_t i = 0; i < row.size(); ++i) {
      const std::string pad(widths[i] - width(row[i]), ' ');
      line +=
          (i == 0 ? "" : "  ") + (i < right_aligned.size() && right_aligned[i] ? pad + row[i] : row[i] + pad);
    }
    line.resize(line.find_last_not_of(' ') + 1);
    text += line + "\n";
  }
  return text;
}

std::string aligned_within(const std::vector<std::vector<std::string>>& rows,
                           const std::vector<bool>& right_aligned, std::size_t columns) {
  constexpr std::size_t kLeast = 24;  // of the last cell
  std::size_t last = 0, taken = 0;
  for (const auto& row : rows) last = std::max(last, row.size());
  for (std::size_t i = 0; i + 1 < last; ++i) {
    std::size_t widest = 0;
    for (const auto& row : rows)
      if (i < row.size()) widest = std::max(widest, width(printable(row[i])));
    taken += widest + 2;
  }
  const std::size_t room = std::max(kLeast, columns > taken ? columns - taken : 0);
  std::vector<std::vector<std::string>> with;
  for (const auto& row : rows) {
    with.push_back(row);
    if (row.size() < last) continue;
    const auto lines = head_lines(printable(row.back()), room);
    with.back().back() = lines.front();
    for (std::size_t line = 1; line < lines.size(); ++line) {
      with.emplace_back(last);
      with.back().back() = lines[line];
    }
  }
  return aligned(with, right_aligned);
}

std::string value_text(const Reading& reading) {
  if (!reading.text.empty()) return reading.text;
  if (!reading.value) return "none";
  return (reading.bound ? "< " : "") +
         number_text(*reading.value, reading.entry, reading.bound ? 0 : reading.uncertainty.value_or(0));
}

std::string level_text(double peak, int digits) {
  return peak > 0 ? fmt::format("{:.{}f} dBFS", db_from_ratio(peak), digits) : "silent";
}

std::string sheet_table(const Sheet& sheet, const TableStyle& style) {
  std::string text = findings_text(sheet, style);
  const bool several = sheet.capture.channels > 1;
  std::vector<std::optional<int>> channels;
  for (const Reading& r : sheet.readings)
    if (std::find(channels.begin(), channels.end(), r.channel) == channels.end())
      channels.push_back(r.channel);
  for (const auto& channel : channels) {
    std::vector<const Reading*> readings;
    for (const Reading& r : sheet.readings)
      if (r.channel == channel) readings.push_back(&r);
    text += "\n";
    if (channel && several) text += fmt::format("  {}\n", channel_name(sheet, *channel));
    text += channel_table(readings, style);
  }
  return text;
}

std::string shared_conditions(const std::vector<Sheet>& sheets, const TableStyle& style,
                              const std::string& more) {
  std::vector<const Reading*> readings;
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings) readings.push_back(&r);
  Conditions common;
  if (readings.empty()) return "";
  for (const auto& condition : readings.front()->conditions)
    if (shared_by_all(condition, readings)) common.push_back(condition);
  return common.empty() && more.empty() ? "" : wrapped(common, style, more);
}

}  // namespace wavicon
