// SPDX-License-Identifier: MIT
// Several captures for a person: a row for each, the readings that tell them apart in columns.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdlib>
#include <numeric>
#include <optional>

#include "reading_text.hpp"
#include "table_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

constexpr std::size_t kGap = 2;
constexpr std::size_t kMostDifferences = 20;  // rows of the second block

// What differs, taken apart: "0-oversampling-4" and "9-oversampling-1" are settings in two columns.
struct Settings {
  std::vector<std::string> heads;               // of the columns but the first
  std::vector<std::vector<std::string>> cells;  // of each label
  bool numeric = false;                         // they sort as numbers
};

std::vector<std::string> tokens_of(const std::string& label) {
  std::vector<std::string> tokens = {""};
  for (const char c : label)
    if ((c == '-' && !tokens.back().empty()) || c == '_' || c == ' ')
      tokens.emplace_back();
    else
      tokens.back() += c;
  return tokens;
}

std::optional<double> number_of(const std::string& token) {
  char* end = nullptr;
  const double value = std::strtod(token.c_str(), &end);
  return token.empty() || *end != '\0' || !std::isfinite(value) ? std::nullopt : std::optional(value);
}

Settings settings_of(const std::vector<std::string>& labels) {
  Settings settings;
  std::vector<std::vector<std::string>> all;
  for (const std::string& label : labels) all.push_back(tokens_of(label));
  const std::size_t count = all.front().size();
  bool alike = std::all_of(all.begin(), all.end(), [&](const auto& t) { return t.size() == count; });
  std::vector<bool> varies(count, false);
  settings.numeric = alike && labels.size() > 1;
  for (std::size_t i = 0; alike && i < count; ++i) {
    varies[i] = std::any_of(all.begin(), all.end(), [&](const auto& t) { return t[i] != all.front()[i]; });
    for (const auto& tokens : all)
      if (varies[i] && !number_of(tokens[i])) settings.numeric = false;
  }
  // Words that every name holds, each before what differs, head its column.
  alike = alike && varies.front();
  for (std::size_t i = 1; i < count && alike; ++i) alike = varies[i] != varies[i - 1];
  for (std::size_t label = 0; label < labels.size(); ++label) {
    settings.cells.emplace_back();
    for (std::size_t i = 0; i < count && alike; ++i) {
      if (varies[i]) settings.cells.back().push_back(all[label][i]);
      if (varies[i] && i > 0 && label == 0) settings.heads.push_back(all[label][i - 1]);
    }
    if (!alike) settings.cells.back() = {labels[label]};
  }
  return settings;
}

// Places of the captures as their settings grow; as they are where those are words.
std::vector<std::size_t> places_by(const std::vector<std::string>& labels, const Settings& settings) {
  std::vector<std::size_t> places(labels.size());
  std::iota(places.begin(), places.end(), 0);
  if (!settings.numeric) return places;
  const auto numbers = [&](std::size_t place) {
    std::vector<double> values;
    for (const std::string& token : tokens_of(labels[place]))
      if (const auto number = number_of(token)) values.push_back(*number);
    return values;
  };
  std::stable_sort(places.begin(), places.end(),
                   [&](std::size_t a, std::size_t b) { return numbers(a) < numbers(b); });
  return places;
}

// The one reading of that name in a channel; null where there are none, or several.
const Reading* only(const Sheet& sheet, const std::string& name, std::optional<int> channel) {
  const Reading* found = nullptr;
  for (const Reading& r : sheet.readings) {
    if (r.name != name || r.channel != channel) continue;
    // Of edges the first, at -3 dB.
    if (found != nullptr) return find_condition(*found, "at_db") != nullptr ? found : nullptr;
    found = &r;
  }
  return found;
}

// A row: a capture, or a channel of it.
struct Row {
  const Sheet* sheet;
  std::optional<int> channel;
  std::string label;               // in words
  std::vector<std::string> cells;  // in columns
  bool first;                      // of its capture: what is of the whole stands here
  [[nodiscard]] const Reading* reading(const std::string& name) const {
    const Reading* own = channel ? only(*sheet, name, channel) : nullptr;
    return own != nullptr || !first ? own : only(*sheet, name, std::nullopt);
  }
};

std::vector<Row> rows_of(const std::vector<Sheet>& sheets, const std::vector<std::string>& labels,
                         const Settings& settings) {
  std::vector<Row> rows;
  for (const std::size_t i : places_by(labels, settings)) {
    std::vector<int> channels;
    for (const Reading& r : sheets[i].readings)
      if (r.channel && std::find(channels.begin(), channels.end(), *r.channel) == channels.end())
        channels.push_back(*r.channel);
    if (channels.empty()) rows.push_back({&sheets[i], std::nullopt, labels[i], settings.cells[i], true});
    for (const int channel : channels) {
      Row row{&sheets[i], channel, labels[i], settings.cells[i], channel == channels.front()};
      if (channels.size() > 1) {
        const std::string name = channel_name(sheets[i], channel);
        row.label += (row.label.empty() ? "" : ", ") + name;
        row.cells.back() += (row.cells.back().empty() ? "" : ", ") + name;
      }
      rows.push_back(std::move(row));
    }
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

struct Column {
  std::string name, unit;
  bool kilo = false;  // frequencies in kHz
  std::vector<std::string> head;
  std::size_t width = 0;
};

std::string cell_of(const Column& column, const Reading* r) {
  if (r == nullptr) return "";
  return column.kilo && r->value ? value_for_person(*r).number : short_text(*r);
}

Column column_of(const std::vector<Row>& rows, const std::string& name) {
  Column column{.name = name};
  const Reading* any = nullptr;
  column.kilo = true;
  for (const Row& row : rows) {
    const Reading* r = row.reading(name);
    if (r == nullptr) continue;
    if (any == nullptr || any->unit.empty()) any = r;
    if (r->value && value_for_person(*r).unit == r->unit) column.kilo = false;
  }
  if (any == nullptr) return column;
  column.unit = any->unit;
  column.kilo = column.kilo && any->unit == "Hz";
  column.head = head_lines(words_of(*any));
  column.head.push_back(column.kilo ? "kHz" : column.unit);
  for (const Row& row : rows)
    column.width = std::max(column.width, width(cell_of(column, row.reading(name))));
  for (const std::string& line : column.head) column.width = std::max(column.width, width(line));
  return column;
}

bool decides(const Reading& r, const std::vector<std::string>& deciding) {
  return deciding.empty() || std::any_of(deciding.begin(), deciding.end(), [&](const std::string& name) {
           return r.name == name || (r.entry != nullptr && r.entry->name == name);
         });
}

// The headline, then what tells the captures apart, as far as there is room.
std::vector<Column> columns_of(const std::vector<Row>& rows, const std::vector<std::string>& headline,
                               const std::vector<std::string>& deciding, std::size_t room,
                               std::size_t& left_out) {
  std::vector<std::string> names;
  const auto add = [&](const std::string& name) {
    if (std::find(names.begin(), names.end(), name) == names.end() &&
        std::any_of(rows.begin(), rows.end(), [&](const Row& row) { return row.reading(name) != nullptr; }))
      names.push_back(name);
  };
  for (const std::string& name : headline) add(name);
  for (const Row& row : rows)
    for (const Reading& r : row.sheet->readings)
      if (decides(r, deciding) && tells_apart(rows, r.name)) add(r.name);
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

// The answers, and what is wrong; what qualifies them is left to --all.
Sheet answers_of(const Sheet& sheet) {
  Sheet answers{.measurement = sheet.measurement, .capture = sheet.capture};
  answers.channel_names = sheet.channel_names;
  for (const Finding& finding : sheet.findings)
    if (finding.severity != Severity::note || finding.code == FindingCode::result ||
        finding.code == FindingCode::not_measured || &finding == sheet.findings.data())
      answers.findings.push_back(finding);
  return answers;
}

std::vector<std::vector<std::string>> heads_of(const std::vector<Column>& columns, const Settings& settings,
                                               const std::string& shared) {
  std::size_t lines = 0;
  for (const Column& column : columns) lines = std::max(lines, column.head.size());
  std::vector<std::vector<std::string>> cells(lines);
  for (std::size_t line = 0; line < lines; ++line) {
    const bool last = line + 1 == lines;
    cells[line] = {"  " + (last ? shared : "")};
    for (const std::string& head : settings.heads) cells[line].push_back(last ? head : "");
    // Headings stand on their unit.
    for (const Column& column : columns) {
      const std::size_t above = lines - column.head.size();
      cells[line].push_back(line < above ? "" : column.head[line - above]);
    }
  }
  return cells;
}

std::vector<std::string> led_by(const std::vector<std::string>& cells) {
  std::vector<std::string> line = cells;
  line.front() = "  " + line.front();
  return line;
}

// Over the first capture, channel by channel.
std::vector<std::vector<std::string>> differences_of(const std::vector<Row>& rows,
                                                     const std::vector<Column>& columns) {
  std::vector<std::vector<std::string>> differences;
  for (std::size_t i = 1; i < rows.size() && rows.size() <= kMostDifferences; ++i) {
    const auto first = std::find_if(rows.begin(), rows.end(),
                                    [&](const Row& row) { return row.channel == rows[i].channel; });
    if (first->sheet == rows[i].sheet) continue;
    std::vector<std::string> line = led_by(rows[i].cells);
    const auto lead = static_cast<std::ptrdiff_t>(line.size());
    for (const Column& column : columns)
      line.push_back(difference_text(first->reading(column.name), rows[i].reading(column.name), column.unit));
    if (std::any_of(line.begin() + lead, line.end(), [](const std::string& cell) { return !cell.empty(); }))
      differences.push_back(std::move(line));
  }
  return differences;
}

}  // namespace

std::string captures_table(const std::vector<Sheet>& sheets, const std::vector<std::string>& headline,
                           const std::vector<std::string>& deciding, const TableStyle& style) {
  if (sheets.empty()) return "";
  std::string text;
  for (const Sheet& sheet : sheets) text += findings_text(answers_of(sheet), style);
  const ShortNames names = capture_names(sheets);
  const Settings settings = settings_of(names.labels);
  const std::vector<Row> rows = rows_of(sheets, names.labels, settings);
  std::size_t taken = 2;
  for (std::size_t i = 0; i < rows.front().cells.size(); ++i) {
    std::size_t widest = width(printable(i == 0 ? names.shared : settings.heads[i - 1]));
    for (const Row& row : rows) widest = std::max(widest, width(printable(row.cells[i])));
    taken += widest + (i == 0 ? 0 : kGap);
  }
  std::size_t left_out = 0;
  const std::vector<Column> columns =
      columns_of(rows, headline, deciding, style.columns > taken ? style.columns - taken : 0, left_out);
  if (columns.empty()) return text;
  std::vector<std::vector<std::string>> cells = heads_of(columns, settings, names.shared);
  for (const Row& row : rows) {
    cells.push_back(led_by(row.cells));
    for (const Column& column : columns) cells.back().push_back(cell_of(column, row.reading(column.name)));
  }
  const auto differences = differences_of(rows, columns);
  if (!differences.empty()) {
    cells.push_back({"  over " + rows.front().label});
    cells.insert(cells.end(), differences.begin(), differences.end());
  }
  std::vector<bool> right(columns.size() + rows.front().cells.size(), true);
  right[0] = false;
  text += "\n" + aligned(cells, right);
  return text + shared_conditions(shown_of(sheets, columns), style,
                                  left_out > 0 ? fmt::format("--all: {} more that differ{}, floors", left_out,
                                                             left_out == 1 ? "s" : "")
                                               : kMore);
}

}  // namespace wavicon
