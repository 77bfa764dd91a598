// SPDX-License-Identifier: MIT
// Several captures for a person: a row for each, the readings that tell them apart in columns.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>

#include "table_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

constexpr std::size_t kHeadWidth = 14;  // of a line of a heading
constexpr std::size_t kGap = 2;
constexpr std::size_t kMostDifferences = 20;  // rows of the second block

bool is_word(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || (c & 0x80) != 0; }

// What the files' names share at both ends, up to whole words, stands once.
struct Names {
  std::string shared;               // before what differs, without what stands between
  std::vector<std::string> labels;  // what differs
};
Names names_of(const std::vector<Sheet>& sheets) {
  Names names{"", short_names(sheets)};
  if (sheets.size() < 2) return names;
  const std::string& one = names.labels.front();
  std::size_t front = one.size(), back = one.size();
  for (const std::string& name : names.labels) {
    const auto first = std::mismatch(one.begin(), one.end(), name.begin(), name.end()).first;
    const auto last = std::mismatch(one.rbegin(), one.rend(), name.rbegin(), name.rend()).first;
    front = std::min(front, static_cast<std::size_t>(first - one.begin()));
    back = std::min(back, static_cast<std::size_t>(last - one.rbegin()));
  }
  while (front > 0 && is_word(one[front - 1])) --front;
  while (back > 0 && is_word(one[one.size() - back])) --back;
  const bool differ = std::all_of(names.labels.begin(), names.labels.end(),
                                  [&](const std::string& name) { return front + back < name.size(); });
  if (!differ) return names;
  names.shared = one.substr(0, front);
  while (!names.shared.empty() && !is_word(names.shared.back())) names.shared.pop_back();
  for (std::string& name : names.labels) name = name.substr(front, name.size() - front - back);
  return names;
}

// The one reading of that name in a channel; null where there are none, or several.
const Reading* only(const Sheet& sheet, const std::string& name, std::optional<int> channel) {
  const Reading* found = nullptr;
  for (const Reading& r : sheet.readings) {
    if (r.name != name || r.channel != channel) continue;
    if (found != nullptr) return nullptr;
    found = &r;
  }
  return found;
}

// A row: a capture, or a channel of it.
struct Row {
  const Sheet* sheet;
  std::optional<int> channel;
  std::string label;
  bool first;  // of its capture: what is of the whole stands here
  [[nodiscard]] const Reading* reading(const std::string& name) const {
    const Reading* own = channel ? only(*sheet, name, channel) : nullptr;
    return own != nullptr || !first ? own : only(*sheet, name, std::nullopt);
  }
};

std::vector<Row> rows_of(const std::vector<Sheet>& sheets, const std::vector<std::string>& labels) {
  std::vector<Row> rows;
  for (std::size_t i = 0; i < sheets.size(); ++i) {
    std::vector<int> channels;
    for (const Reading& r : sheets[i].readings)
      if (r.channel && std::find(channels.begin(), channels.end(), *r.channel) == channels.end())
        channels.push_back(*r.channel);
    if (channels.empty()) rows.push_back({&sheets[i], std::nullopt, labels[i], true});
    for (const int channel : channels)
      rows.push_back({&sheets[i], channel,
                      labels[i] + (channels.size() > 1 ? ", " + channel_name(sheets[i], channel) : ""),
                      channel == channels.front()});
  }
  return rows;
}

bool has(const Sheet& sheet, const std::string& name) {
  return std::any_of(sheet.readings.begin(), sheet.readings.end(),
                     [&](const Reading& r) { return r.name == name && (r.value || !r.text.empty()); });
}

// Whether captures differ in it by more than what is uncertain of them, or some have it and others do not.
bool tells_apart(const std::vector<Row>& rows, const std::string& name) {
  const auto with =
      std::count_if(rows.begin(), rows.end(), [&](const Row& row) { return has(*row.sheet, name); });
  if (with > 0 && with < std::ssize(rows)) return true;
  const Reading *low = nullptr, *high = nullptr;
  for (const Row& row : rows) {
    const Reading* r = row.reading(name);
    if (r == nullptr) continue;
    if (!r->text.empty()) {
      if (high != nullptr && high->text != r->text) return true;
      high = r;
      continue;
    }
    if (!r->value) continue;
    if (low == nullptr || *r->value < *low->value) low = r;
    if (high == nullptr || !high->value || *r->value > *high->value) high = r;
  }
  if (low == nullptr || high == nullptr || !high->value) return false;
  return *high->value - *low->value > low->uncertainty.value_or(0) + high->uncertainty.value_or(0);
}

std::vector<std::string> wrapped_words(const std::string& words) {
  std::vector<std::string> lines = {""};
  std::size_t from = 0;
  while (from < words.size()) {
    const std::size_t space = std::min(words.find(' ', from), words.size());
    const std::string word = words.substr(from, space - from);
    if (!lines.back().empty() && width(lines.back()) + 1 + width(word) > kHeadWidth) lines.emplace_back();
    lines.back() += (lines.back().empty() ? "" : " ") + word;
    from = space + 1;
  }
  return lines;
}

struct Column {
  std::string name, unit;
  std::vector<std::string> head;
  std::size_t width = 0;
};

Column column_of(const std::vector<Row>& rows, const std::string& name) {
  Column column{.name = name};
  for (const Row& row : rows) {
    const Reading* r = row.reading(name);
    if (r == nullptr) continue;
    if (column.head.empty()) {
      column.unit = r->unit;
      column.head =
          wrapped_words(r->entry != nullptr && !r->entry->words.empty() ? r->entry->words : r->name);
      column.head.push_back(r->unit);
    }
    column.width = std::max(column.width, width(value_text(*r)));
  }
  for (const std::string& line : column.head) column.width = std::max(column.width, width(line));
  return column;
}

// The headline, then what tells the captures apart, as far as there is room.
std::vector<Column> columns_of(const std::vector<Row>& rows, const std::vector<std::string>& headline,
                               std::size_t room, std::size_t& left_out) {
  std::vector<std::string> names;
  const auto add = [&](const std::string& name) {
    if (std::find(names.begin(), names.end(), name) == names.end() &&
        std::any_of(rows.begin(), rows.end(), [&](const Row& row) { return row.reading(name) != nullptr; }))
      names.push_back(name);
  };
  for (const std::string& name : headline) add(name);
  for (const Row& row : rows)
    for (const Reading& r : row.sheet->readings)
      if (tells_apart(rows, r.name)) add(r.name);
  std::vector<Column> columns;
  left_out = 0;
  for (const std::string& name : names) {
    Column column = column_of(rows, name);
    if (column.width + kGap > room) {
      ++left_out;
      continue;
    }
    room -= column.width + kGap;
    columns.push_back(std::move(column));
  }
  return columns;
}

// The sheets with the readings that are shown: under which circumstances these were read.
std::vector<Sheet> shown_of(const std::vector<Sheet>& sheets, const std::vector<Column>& columns) {
  std::vector<Sheet> shown(sheets.size());
  for (std::size_t i = 0; i < sheets.size(); ++i)
    for (const Reading& r : sheets[i].readings)
      if (std::any_of(columns.begin(), columns.end(), [&](const Column& c) { return c.name == r.name; }))
        shown[i].readings.push_back(r);
  return shown;
}

std::string difference_text(const Reading* first, const Reading* r, const std::string& unit) {
  const bool both =
      first != nullptr && r != nullptr && first->value && r->value && !first->bound && !r->bound;
  if (!both || !compares(unit)) return "";
  const double sure = std::hypot(first->uncertainty.value_or(0), r->uncertainty.value_or(0)),
               difference = *r->value - *first->value;
  const std::string text = fmt::format("{:+.{}f}", difference, sure >= 1 ? 0 : sure >= 0.1 ? 1 : 2);
  return text.find_first_not_of("+-0.") == std::string::npos ? "0" : text;
}

}  // namespace

std::string captures_table(const std::vector<Sheet>& sheets, const std::vector<std::string>& headline,
                           std::size_t columns_wide) {
  if (sheets.empty()) return "";
  std::string text;
  for (const Sheet& sheet : sheets) text += findings_text(sheet);
  const Names names = names_of(sheets);
  const std::vector<Row> rows = rows_of(sheets, names.labels);
  std::size_t label_width = width(printable(names.shared));
  for (const Row& row : rows) label_width = std::max(label_width, width(printable(row.label)));
  std::size_t left_out = 0;
  const std::size_t taken = 2 + label_width;
  const std::vector<Column> columns =
      columns_of(rows, headline, columns_wide > taken ? columns_wide - taken : 0, left_out);
  if (columns.empty()) return text;
  std::size_t lines = 0;
  for (const Column& column : columns) lines = std::max(lines, column.head.size());
  std::vector<std::vector<std::string>> cells(lines);
  for (std::size_t line = 0; line < lines; ++line) {
    cells[line] = {"  " + (line + 1 == lines ? names.shared : "")};
    // Headings stand on their unit.
    for (const Column& column : columns) {
      const std::size_t above = lines - column.head.size();
      cells[line].push_back(line < above ? "" : column.head[line - above]);
    }
  }
  for (const Row& row : rows) {
    cells.push_back({"  " + row.label});
    for (const Column& column : columns) {
      const Reading* r = row.reading(column.name);
      cells.back().push_back(r == nullptr ? "" : value_text(*r));
    }
  }
  std::vector<std::vector<std::string>> differences;
  for (std::size_t i = 1; i < rows.size() && rows.size() <= kMostDifferences; ++i) {
    const auto first = std::find_if(rows.begin(), rows.end(),
                                    [&](const Row& row) { return row.channel == rows[i].channel; });
    if (first->sheet == rows[i].sheet) continue;
    std::vector<std::string> line = {"  " + rows[i].label};
    for (const Column& column : columns)
      line.push_back(difference_text(first->reading(column.name), rows[i].reading(column.name), column.unit));
    if (std::any_of(line.begin() + 1, line.end(), [](const std::string& cell) { return !cell.empty(); }))
      differences.push_back(std::move(line));
  }
  if (!differences.empty()) {
    cells.push_back({"  over " + rows.front().label});
    cells.insert(cells.end(), differences.begin(), differences.end());
  }
  std::vector<bool> right(columns.size() + 1, true);
  right[0] = false;
  text += "\n" + aligned(cells, right);
  if (const std::string shared = shared_conditions(shown_of(sheets, columns)); !shared.empty())
    text += "\n" + shared;
  text += left_out > 0
              ? fmt::format("  --all shows {} more that differ{}, and every reading with its floor\n",
                            left_out, left_out == 1 ? "s" : "")
              : "  --all shows every reading with its floor\n";
  return text;
}

}  // namespace wavicon
