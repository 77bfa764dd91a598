// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "table_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon {
namespace {

using present_detail::compares;
using present_detail::short_names;

// A row: a reading of that name and channel, and of which several there are under one name (orders, lines,
// bands), which of them.
struct Row {
  std::string name;
  std::optional<int> channel;
  std::string which;
  std::string unit;
  bool operator==(const Row& other) const {
    return name == other.name && channel == other.channel && which == other.which;
  }
};

// What tells readings of one name apart: the order, the line, the band, or the place to a hertz.
std::string which_of(const Reading& reading) {
  for (const char* name : {"order", "line", "centre_hz", "at_hz", "take", "part"}) {
    const ConditionValue* value = find_condition(reading, name);
    if (value == nullptr) continue;
    if (const auto* whole = std::get_if<std::int64_t>(value)) return fmt::format("{} {}", name, *whole);
    if (const auto* text = std::get_if<std::string>(value)) return *text;
    if (const auto* real = std::get_if<double>(value)) return fmt::format("{:.0f} Hz", *real);
  }
  return "";
}

// Readings whose name stands once in every sheet need nothing to tell them apart.
std::vector<Row> rows_of(const Sheet& sheet, const std::vector<Sheet>& all) {
  std::vector<Row> rows;
  for (const Reading& r : sheet.readings) {
    const bool several = std::any_of(all.begin(), all.end(), [&](const Sheet& s) {
      return std::count_if(s.readings.begin(), s.readings.end(),
                           [&](const Reading& o) { return o.name == r.name && o.channel == r.channel; }) > 1;
    });
    rows.push_back({r.name, r.channel, several ? which_of(r) : "", r.unit});
  }
  return rows;
}

const Reading* reading_of(const Sheet& sheet, const Row& row) {
  for (const Reading& r : sheet.readings)
    if (r.name == row.name && r.channel == row.channel && (row.which.empty() || which_of(r) == row.which))
      return &r;
  return nullptr;
}

std::string difference_text(double db) { return fmt::format("{:+.3f}", std::abs(db) < 0.0005 ? 0.0 : db); }

}  // namespace

std::string findings_text(const Sheet& sheet) {
  std::string text;
  for (const Finding& finding : sheet.findings) {
    const bool of_channel = finding.channel && sheet.capture.channels > 1;
    const std::string where =
        printable(sheet.capture.file) +
        (of_channel ? (sheet.capture.file.empty() ? "" : ", ") + channel_name(sheet, *finding.channel) : "");
    text += fmt::format("{}{}{}{}\n", where, where.empty() ? "" : ": ",
                        finding.severity == Severity::note ? "" : name_of(finding.severity) + ": ",
                        printable(finding.text));
  }
  return text;
}

std::string comparison_table(const std::vector<Sheet>& sheets) {
  std::string text;
  for (const Sheet& sheet : sheets) text += findings_text(sheet);
  std::vector<Row> rows;
  for (const Sheet& sheet : sheets)
    for (const Row& row : rows_of(sheet, sheets))
      if (std::find(rows.begin(), rows.end(), row) == rows.end()) rows.push_back(row);
  const bool channels =
      std::any_of(rows.begin(), rows.end(), [](const Row& r) { return r.channel.value_or(0) > 0; });
  const auto names = short_names(sheets);
  std::vector<std::vector<std::string>> cells = {{"", "reading"}};
  if (channels) cells[0].push_back("channel");
  cells[0].insert(cells[0].end(), names.begin(), names.end());
  cells[0].push_back("");
  for (std::size_t i = 1; i < sheets.size(); ++i)
    cells[0].push_back(sheets.size() == 2 ? "difference" : "to first: " + names[i]);
  for (const Row& row : rows) {
    std::vector<std::string> line = {"", row.name + (row.which.empty() ? "" : ", " + row.which)};
    if (channels) line.push_back(row.channel ? std::to_string(*row.channel + 1) : "");
    const Reading* first = reading_of(sheets[0], row);
    for (const Sheet& sheet : sheets) {
      const Reading* r = reading_of(sheet, row);
      line.push_back(r == nullptr ? "" : value_text(*r));
    }
    line.push_back(row.unit);
    for (std::size_t i = 1; i < sheets.size(); ++i) {
      const Reading* r = reading_of(sheets[i], row);
      const bool both =
          first != nullptr && r != nullptr && first->value && r->value && !first->bound && !r->bound;
      line.push_back(both && compares(row.unit) ? difference_text(*r->value - *first->value) : "");
    }
    cells.push_back(std::move(line));
  }
  std::vector<bool> right(cells[0].size(), true);
  const std::size_t lead = channels ? 3 : 2;
  std::fill_n(right.begin(), lead, false);
  right[lead + sheets.size()] = false;  // the unit
  text += "\n" + aligned(cells, right);
  if (!sheets[0].readings.empty()) text += "\n" + shared_conditions(sheets);
  return text;
}

std::string ladder_table(const std::vector<Sheet>& sheets, const std::vector<std::string>& names,
                         const std::vector<std::string>& readings, const std::string& heading) {
  std::vector<std::vector<std::string>> cells = {{"", heading}};
  const bool several =
      std::any_of(sheets.begin(), sheets.end(), [](const Sheet& s) { return s.capture.channels > 1; });
  if (several) cells[0].push_back("channel");
  std::vector<std::string> columns;
  for (const std::string& name : readings)
    if (std::any_of(sheets.begin(), sheets.end(), [&](const Sheet& s) {
          return std::any_of(s.readings.begin(), s.readings.end(),
                             [&](const Reading& r) { return r.name == name; });
        }))
      columns.push_back(name);
  cells[0].insert(cells[0].end(), columns.begin(), columns.end());
  for (std::size_t i = 0; i < sheets.size(); ++i)
    for (int channel = 0; channel < std::max(1, sheets[i].capture.channels); ++channel) {
      std::vector<std::string> line = {"", channel == 0 ? names[i] : ""};
      if (several) line.push_back(std::to_string(channel + 1));
      for (const std::string& name : columns) {
        const Reading* r = find_reading(sheets[i], name, channel);
        if (r == nullptr && channel == 0) r = find_reading(sheets[i], name, std::nullopt);
        line.push_back(r == nullptr ? "" : value_text(*r));
      }
      cells.push_back(std::move(line));
    }
  std::vector<bool> right(cells[0].size(), true);
  right[0] = right[1] = false;
  return aligned(cells, right);
}

namespace {

std::string condition_text(const Reading& reading, const std::string& name) {
  const ConditionValue* value = find_condition(reading, name);
  const auto* words = value == nullptr ? nullptr : std::get_if<std::string>(value);
  return words == nullptr ? "" : *words;
}

// One sheet, a row for each value of a condition.
std::string condition_rows(const Sheet& sheet, const RowLayout& layout) {
  std::vector<std::vector<std::string>> rows = {{"", layout.heading}};
  const bool worded = !layout.row_words.empty();
  if (worded) rows[0].push_back(layout.row_words);
  const std::size_t lead = rows[0].size();
  rows[0].insert(rows[0].end(), layout.columns.begin(), layout.columns.end());
  if (!layout.column_condition.empty()) rows[0].push_back(layout.column_condition);
  std::optional<std::int64_t> current;
  for (const Reading& r : sheet.readings) {
    const ConditionValue* value = find_condition(r, layout.rows_by);
    const auto* number = value == nullptr ? nullptr : std::get_if<std::int64_t>(value);
    if (number == nullptr) continue;
    const auto column = std::find(layout.columns.begin(), layout.columns.end(), r.name);
    if (worded && column == layout.columns.end()) continue;
    if (worded || current != *number) {
      rows.emplace_back(rows[0].size());
      if (current != *number) rows.back()[1] = std::to_string(*number);
      if (worded) rows.back()[2] = condition_text(r, layout.row_words);
      current = *number;
    }
    if (column == layout.columns.end()) continue;
    rows.back()[static_cast<std::size_t>(column - layout.columns.begin()) + lead] = value_text(r);
    if (const ConditionValue* more = find_condition(r, layout.column_condition))
      if (const auto* real = std::get_if<double>(more)) rows.back().back() = fmt::format("{:.2f}", *real);
  }
  std::vector<bool> right(rows[0].size(), true);
  std::fill_n(right.begin(), lead, false);
  return aligned(rows, right);
}

// What has no row of its own.
Sheet without_rows(const Sheet& sheet, const RowLayout& layout) {
  Sheet rest{.capture = sheet.capture, .findings = sheet.findings};
  if (layout.row_words.empty()) return rest;
  for (const Reading& r : sheet.readings)
    if (find_condition(r, layout.rows_by) == nullptr) rest.readings.push_back(r);
  return rest;
}

// What a cell says of one sheet: of the channel whose first reading is the highest.
std::string cell_of(const Sheet& sheet, const std::vector<std::string>& names) {
  const Reading* worst = nullptr;
  for (const Reading& r : sheet.readings)
    if (!names.empty() && r.name == names.front() && r.value &&
        (worst == nullptr || *r.value > *worst->value))
      worst = &r;
  std::string text = worst != nullptr ? value_text(*worst) : "";
  for (std::size_t i = 1; i < names.size(); ++i) {
    const auto other = std::find_if(sheet.readings.begin(), sheet.readings.end(),
                                    [&](const Reading& r) { return r.name == names[i]; });
    if (other != sheet.readings.end()) text += (text.empty() ? "" : " ") + value_text(*other);
  }
  return text.empty() ? "not compared" : text;
}

std::string grid_table(const std::vector<Sheet>& sheets, const RowLayout& layout) {
  const PairGrid& grid = layout.grid;
  std::string text;
  for (const Sheet& sheet : sheets)
    for (const Finding& finding : sheet.findings)
      if (finding.severity != Severity::note)
        text += fmt::format("{}: {}: {}\n", printable(sheet.capture.file), name_of(finding.severity),
                            printable(finding.text));
  std::vector<std::vector<std::string>> cells(grid.rows.size() + 1,
                                              std::vector<std::string>(grid.columns.size() + 1));
  cells[0][0] = layout.heading;
  for (std::size_t c = 0; c < grid.columns.size(); ++c) cells[0][c + 1] = grid.columns[c];
  for (std::size_t r = 0; r < grid.rows.size(); ++r) cells[r + 1][0] = grid.rows[r];
  for (std::size_t i = 0; i < std::min(sheets.size(), grid.places.size()); ++i)
    cells[grid.places[i].first + 1][grid.places[i].second + 1] = cell_of(sheets[i], layout.columns);
  // Of a triangle the last row and the first column hold nothing.
  const bool triangle = grid.rows == grid.columns && grid.rows.size() > 1;
  if (triangle) {
    cells.pop_back();
    for (auto& row : cells) row.erase(row.begin() + 1);
  }
  return text + "\n" + aligned(cells, {});
}

}  // namespace

std::string row_table(const std::vector<Sheet>& sheets, const RowLayout& layout) {
  if (!layout.grid.places.empty()) return grid_table(sheets, layout);
  std::string text;
  const std::size_t rows = layout.rows_by.empty() ? std::min(layout.names.size(), sheets.size()) : 0;
  if (!layout.rows_by.empty()) {
    for (const Sheet& sheet : sheets) {
      text += sheet_table(without_rows(sheet, layout)) + "\n" + condition_rows(sheet, layout);
    }
    return text;
  }
  std::string rest;
  for (std::size_t i = rows; i < sheets.size(); ++i)
    rest += layout.rest_in_words ? findings_text(sheets[i]) : sheet_table(sheets[i]);
  // What sums up the rows stands before them.
  const std::string table = ladder_table({sheets.begin(), sheets.begin() + static_cast<std::ptrdiff_t>(rows)},
                                         layout.names, layout.columns, layout.heading);
  return layout.rest_in_words ? rest + "\n" + table : table + rest;
}

}  // namespace wavicon
