// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "reading_text.hpp"
#include "table_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

// A row: a reading of that name and channel, and of which several there are under one name (orders, lines,
// bands), which of them.
struct ComparedRow {
  std::string name;
  std::optional<int> channel;
  std::string which;
  std::string unit;
  bool operator==(const ComparedRow& other) const {
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
std::vector<ComparedRow> rows_of(const Sheet& sheet, const std::vector<Sheet>& all) {
  std::vector<ComparedRow> rows;
  for (const Reading& r : sheet.readings) {
    const bool several = std::any_of(all.begin(), all.end(), [&](const Sheet& s) {
      return std::count_if(s.readings.begin(), s.readings.end(),
                           [&](const Reading& o) { return o.name == r.name && o.channel == r.channel; }) > 1;
    });
    rows.push_back({r.name, r.channel, several ? which_of(r) : "", r.unit});
  }
  return rows;
}

const Reading* reading_of(const Sheet& sheet, const ComparedRow& row) {
  for (const Reading& r : sheet.readings)
    if (r.name == row.name && r.channel == row.channel && (row.which.empty() || which_of(r) == row.which))
      return &r;
  return nullptr;
}

std::string difference_text(double db) { return fmt::format("{:+.3f}", std::abs(db) < 0.0005 ? 0.0 : db); }

}  // namespace

namespace {

// Without their folders, where that tells them apart.
std::vector<std::string> file_names(const std::vector<Sheet>& sheets) {
  std::vector<std::string> names;
  for (const Sheet& sheet : sheets)
    names.push_back(sheet.capture.file.substr(sheet.capture.file.find_last_of('/') + 1));
  const std::vector<std::string> plain = names;
  for (std::size_t i = 0; i < names.size(); ++i)
    if (std::count(plain.begin(), plain.end(), plain[i]) > 1) names[i] = sheets[i].capture.file;
  return names;
}

std::size_t widest_line(const std::string& text) {
  std::size_t widest = 0;
  for (std::size_t from = 0; from < text.size();) {
    const std::size_t end = std::min(text.find('\n', from), text.size());
    widest = std::max(widest, width(text.substr(from, end - from)));
    from = end + 1;
  }
  return widest;
}

// The first sheet and some others beside each other.
std::string side_by_side(const std::vector<Sheet>& sheets, const std::vector<std::string>& names,
                         const std::vector<ComparedRow>& rows, bool channels,
                         const std::vector<std::size_t>& shown) {
  std::vector<std::vector<std::string>> cells = {{"", "reading"}};
  if (channels) cells[0].push_back("channel");
  for (const std::size_t i : shown) cells[0].push_back(names[i]);
  cells[0].push_back("");
  for (std::size_t i = 1; i < shown.size(); ++i)
    cells[0].push_back(shown.size() == 2 ? "difference" : "to first: " + names[shown[i]]);
  for (const ComparedRow& row : rows) {
    std::vector<std::string> line = {"", row.name + (row.which.empty() ? "" : ", " + row.which)};
    if (channels) line.push_back(row.channel ? std::to_string(*row.channel + 1) : "");
    const Reading* first = reading_of(sheets[0], row);
    for (const std::size_t i : shown) {
      const Reading* r = reading_of(sheets[i], row);
      line.push_back(r == nullptr ? "" : value_text(*r));
    }
    line.push_back(row.unit);
    for (std::size_t i = 1; i < shown.size(); ++i) {
      const Reading* r = reading_of(sheets[shown[i]], row);
      const bool both =
          first != nullptr && r != nullptr && first->value && r->value && !first->bound && !r->bound;
      line.push_back(both && compares(row.unit) ? difference_text(*r->value - *first->value) : "");
    }
    cells.push_back(std::move(line));
  }
  std::vector<bool> right(cells[0].size(), true);
  const std::size_t lead = channels ? 3 : 2;
  std::fill_n(right.begin(), lead, false);
  right[lead + shown.size()] = false;  // the unit
  return aligned(cells, right);
}

}  // namespace

std::string comparison_table(const std::vector<Sheet>& sheets, const TableStyle& style) {
  std::string text;
  for (const Sheet& sheet : sheets) text += findings_text(sheet, style);
  std::vector<ComparedRow> rows;
  for (const Sheet& sheet : sheets)
    for (const ComparedRow& row : rows_of(sheet, sheets))
      if (std::find(rows.begin(), rows.end(), row) == rows.end()) rows.push_back(row);
  const bool channels =
      std::any_of(rows.begin(), rows.end(), [](const ComparedRow& r) { return r.channel.value_or(0) > 0; });
  const auto names = file_names(sheets);
  std::vector<std::size_t> shown = {0};
  std::string table;
  for (std::size_t i = 1; i < sheets.size(); ++i) {
    shown.push_back(i);
    const std::string wider = side_by_side(sheets, names, rows, channels, shown);
    if (shown.size() > 2 && widest_line(wider) > style.columns) {
      text += "\n" + table;
      shown = {0, i};
      table = side_by_side(sheets, names, rows, channels, shown);
    } else {
      table = wider;
    }
  }
  text += "\n" + (table.empty() ? side_by_side(sheets, names, rows, channels, shown) : table);
  if (!sheets[0].readings.empty()) text += "\n" + shared_conditions(sheets, style);
  return text;
}

namespace {

// A column of readings of one name: head, then cells as they come.
struct LadderColumn {
  std::string name;
  std::vector<std::string> head;
  bool kilo = true;
  std::size_t width = 0;
  [[nodiscard]] std::string cell(const Reading* r) const {
    if (r == nullptr) return "";
    return kilo && r->value ? value_for_person(*r).number : short_text(*r);
  }
};

// None of a name that no sheet has.
std::optional<LadderColumn> ladder_column(const std::vector<Sheet>& sheets, const std::string& name) {
  LadderColumn column{.name = name};
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings) {
      if (r.name != name) continue;
      if (r.value && value_for_person(r).unit == r.unit) column.kilo = false;
      if (column.head.empty() || column.head.back().empty()) {
        column.head = head_lines(words_of(r), 12);
        column.head.push_back(r.unit);
      }
    }
  if (column.head.empty()) return std::nullopt;
  column.kilo = column.kilo && column.head.back() == "Hz";
  if (column.kilo) column.head.back() = "kHz";
  for (const std::string& line : column.head) column.width = std::max(column.width, width(line));
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings)
      if (r.name == name) column.width = std::max(column.width, width(column.cell(&r)));
  return column;
}

// The heads of columns over each other, units at the bottom; @param lead  heads of the first columns.
std::vector<std::vector<std::string>> ladder_head(const std::vector<std::string>& lead,
                                                  const std::vector<LadderColumn>& columns) {
  std::size_t deep = 1;
  for (const LadderColumn& column : columns) deep = std::max(deep, column.head.size());
  std::vector<std::vector<std::string>> cells(deep, std::vector<std::string>(lead.size()));
  cells.back() = lead;
  for (std::size_t line = 0; line < deep; ++line)
    for (const LadderColumn& column : columns) {
      const std::size_t above = deep - column.head.size();
      cells[line].push_back(line < above ? "" : column.head[line - above]);
    }
  return cells;
}

}  // namespace

std::string ladder_table(const std::vector<Sheet>& sheets, const std::vector<std::string>& names,
                         const std::vector<std::string>& readings, const std::string& heading,
                         const TableStyle& style) {
  const bool several =
      std::any_of(sheets.begin(), sheets.end(), [](const Sheet& s) { return s.capture.channels > 1; });
  std::vector<std::string> lead = {"", heading};
  if (several) lead.push_back("channel");
  std::size_t taken = width(heading);
  for (const std::string& name : names) taken = std::max(taken, width(printable(name)));
  taken += several ? 2 + 2 + 7 : 2;
  // Columns that do not fit go on in a block below.
  std::vector<std::vector<LadderColumn>> blocks;
  std::size_t used = style.columns;
  for (const std::string& name : readings) {
    auto column = ladder_column(sheets, name);
    if (!column) continue;
    if (used + column->width + 2 > style.columns) {
      blocks.emplace_back();
      used = taken;
    }
    used += column->width + 2;
    blocks.back().push_back(std::move(*column));
  }
  std::string text;
  for (const auto& columns : blocks) {
    std::vector<std::vector<std::string>> cells = ladder_head(lead, columns);
    for (std::size_t i = 0; i < sheets.size(); ++i)
      for (int channel = 0; channel < std::max(1, sheets[i].capture.channels); ++channel) {
        std::vector<std::string> line = {"", channel == 0 ? names[i] : ""};
        if (several) line.push_back(std::to_string(channel + 1));
        for (const LadderColumn& column : columns) {
          const Reading* r = find_reading(sheets[i], column.name, channel);
          if (r == nullptr && channel == 0) r = find_reading(sheets[i], column.name, std::nullopt);
          line.push_back(column.cell(r));
        }
        cells.push_back(std::move(line));
      }
    std::vector<bool> right(cells[0].size(), true);
    right[0] = right[1] = false;
    text += (text.empty() ? "" : "\n") + aligned(cells, right);
  }
  return text;
}

namespace {

std::string condition_word(const Reading& reading, const std::string& name) {
  const ConditionValue* value = find_condition(reading, name);
  const auto* words = value == nullptr ? nullptr : std::get_if<std::string>(value);
  return words == nullptr ? "" : *words;
}

// "at_hz" as "at" over "Hz".
std::vector<std::string> condition_head(const std::string& name) {
  for (const auto& [suffix, unit] : std::initializer_list<std::pair<std::string, const char*>>{
           {"_hz", "Hz"}, {"_dbfs", "dBFS"}, {"_dbc", "dBc"}, {"_db", "dB"}, {"_s", "s"}}) {
    if (name.size() <= suffix.size() || name.substr(name.size() - suffix.size()) != suffix) continue;
    std::string words = name.substr(0, name.size() - suffix.size());
    std::replace(words.begin(), words.end(), '_', ' ');
    auto lines = head_lines(words, 12);
    lines.push_back(unit);
    return lines;
  }
  return {name};
}

const std::int64_t* row_of(const Reading& r, const RowLayout& layout) {
  const ConditionValue* value = find_condition(r, layout.rows_by);
  return value == nullptr ? nullptr : std::get_if<std::int64_t>(value);
}

// Of several readings of a row and name, which are told apart by a word, the highest stands for all.
const Reading* highest_of(const Sheet& sheet, const RowLayout& layout, std::int64_t row,
                          const std::string& name) {
  const Reading* found = nullptr;
  for (const Reading& r : sheet.readings) {
    const std::int64_t* of = row_of(r, layout);
    if (of == nullptr || *of != row || r.name != name) continue;
    if (found == nullptr || (r.value && (!found->value || *r.value > *found->value))) found = &r;
  }
  return found;
}

// One sheet, a row for each value of a condition.
std::string condition_rows(const Sheet& sheet, const RowLayout& layout) {
  const bool worded = !layout.row_words.empty();
  std::vector<std::string> lead = {"", layout.heading};
  if (worded) lead.push_back("strongest " + layout.row_words);
  std::vector<LadderColumn> columns;
  for (const std::string& name : layout.columns)
    if (auto column = ladder_column({sheet}, name)) columns.push_back(std::move(*column));
  if (!layout.column_condition.empty())
    columns.push_back({.name = "", .head = condition_head(layout.column_condition)});
  std::vector<std::vector<std::string>> rows = ladder_head(lead, columns);
  std::vector<std::int64_t> values;
  for (const Reading& r : sheet.readings)
    if (const std::int64_t* value = row_of(r, layout))
      if (std::find(values.begin(), values.end(), *value) == values.end()) values.push_back(*value);
  for (const std::int64_t value : values) {
    std::vector<std::string> row = {"", std::to_string(value)};
    if (worded) row.emplace_back();
    std::string beside;
    for (const LadderColumn& column : columns) {
      if (column.name.empty()) continue;
      const Reading* r = highest_of(sheet, layout, value, column.name);
      row.push_back(column.cell(r));
      if (r == nullptr) continue;
      if (worded) row[2] = condition_word(*r, layout.row_words);
      if (const ConditionValue* with = find_condition(*r, layout.column_condition))
        if (const auto* real = std::get_if<double>(with)) beside = fmt::format("{:.2f}", *real);
    }
    if (!layout.column_condition.empty()) row.push_back(beside);
    rows.push_back(std::move(row));
  }
  std::vector<bool> right(rows[0].size(), true);
  std::fill_n(right.begin(), lead.size(), false);
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

std::string grid_table(const std::vector<Sheet>& sheets, const RowLayout& layout, const TableStyle& style) {
  const PairGrid& grid = layout.grid;
  std::string text;
  for (const Sheet& sheet : sheets)
    for (const Finding& finding : sheet.findings)
      if (finding.severity != Severity::note)
        text += wrapped_text(fmt::format("{}: {}", name_of(finding.severity), printable(finding.text)),
                             printable(sheet.capture.file) + ": ", "    ", style.columns) +
                "\n";
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

// A table for each reading: what changes downwards against what changes to the right.
std::string matrices(const std::vector<Sheet>& sheets, const RowLayout& layout) {
  const PairGrid& grid = layout.grid;
  std::string text;
  for (const std::string& name : layout.matrices) {
    std::vector<std::vector<std::string>> cells(grid.rows.size() + 1,
                                                std::vector<std::string>(grid.columns.size() + 1));
    bool any = false;
    for (std::size_t i = 0; i < std::min(sheets.size(), grid.places.size()); ++i)
      for (const Reading& r : sheets[i].readings) {
        if (r.name != name || (!r.value && r.text.empty())) continue;
        cells[grid.places[i].first + 1][grid.places[i].second + 1] = short_text(r);
        cells[0][0] = "  " + words_of(r) + (r.unit.empty() ? "" : ", " + r.unit);
        any = true;
        break;
      }
    if (!any) continue;
    for (std::size_t c = 0; c < grid.columns.size(); ++c) cells[0][c + 1] = grid.columns[c];
    for (std::size_t r = 0; r < grid.rows.size(); ++r) cells[r + 1][0] = "  " + grid.rows[r];
    std::vector<bool> right(cells[0].size(), true);
    right[0] = false;
    text += (text.empty() ? "" : "\n") + aligned(cells, right);
  }
  return text;
}

std::string rows_text(const std::vector<Sheet>& sheets, const RowLayout& layout,
                      const std::vector<std::string>& deciding, const TableStyle& style) {
  if (!layout.grid.places.empty() && layout.matrices.empty()) return grid_table(sheets, layout, style);
  std::string text;
  const std::size_t rows = layout.rows_by.empty() ? std::min(layout.names.size(), sheets.size()) : 0;
  if (!layout.rows_by.empty()) {
    for (const Sheet& sheet : sheets) {
      text +=
          capture_table(without_rows(sheet, layout), deciding, style) + "\n" + condition_rows(sheet, layout);
    }
    return text;
  }
  std::string rest;
  for (std::size_t i = rows; i < sheets.size(); ++i)
    rest +=
        layout.rest_in_words ? findings_text(sheets[i], style) : capture_table(sheets[i], deciding, style);
  // What sums up the rows stands before them.
  const std::vector<Sheet> steps = {sheets.begin(), sheets.begin() + static_cast<std::ptrdiff_t>(rows)};
  const std::string table = layout.matrices.empty()
                                ? ladder_table(steps, layout.names, layout.columns, layout.heading, style)
                                : matrices(steps, layout);
  return rest.empty() ? table : rest + "\n" + table;
}

}  // namespace

std::string row_table(const std::vector<Sheet>& sheets, const RowLayout& layout,
                      const std::vector<std::string>& deciding, const TableStyle& style) {
  const std::string text = rows_text(sheets, layout, deciding, style);
  const bool said = text.find(kMore) != std::string::npos;
  return said ? text : text + aside_text(std::string("  ") + kMore, style);
}

}  // namespace wavicon
