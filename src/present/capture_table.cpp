// SPDX-License-Identifier: MIT
// One capture for a person: what decides, in words and units; several of a kind in rows of their own.
#include <fmt/format.h>

#include <algorithm>

#include "reading_text.hpp"
#include "table_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

using Readings = std::vector<const Reading*>;
using Rows = std::vector<std::vector<std::string>>;

constexpr std::size_t kMostOfAKind = 12;  // rows of readings of one kind
constexpr std::size_t kMostBlocks = 4;    // of channels below each other
constexpr const char* kIndent = "  ";

bool is_called(const Reading& r, const std::string& name) {
  return r.name == name || (r.entry != nullptr && r.entry->name == name);
}

bool says_something(const Reading& r) { return r.value || !r.text.empty(); }

// Of one channel, or of the whole, the readings of that name.
Readings called(const Sheet& sheet, const std::string& name, std::optional<int> channel) {
  Readings found;
  for (const Reading& r : sheet.readings)
    if (r.channel == channel && is_called(r, name) && says_something(r)) found.push_back(&r);
  return found;
}

// What tells readings of one kind apart.
struct Key {
  std::string condition;  // empty: the number in their names
  std::string head;
};
constexpr std::pair<const char*, const char*> kKeys[] = {{"order", "order"},      {"frequency_hz", "tone"},
                                                         {"tone_hz", "tone"},     {"line", "line"},
                                                         {"centre_hz", "band"},   {"at_s", "at"},
                                                         {"at_hz", "at"},         {"take", "take"},
                                                         {"part", "part"},        {"block_dbfs", "block"},
                                                         {"levels_dbfs", "tone"}, {"bandwidth_hz", "band"},
                                                         {"method", "method"},    {"at_db", ""},
                                                         {"edge", "edge"},        {"way", "way"}};

std::string plain_value(const ConditionValue& value, const std::string& name) {
  if (name.size() > 3 && name.compare(name.size() - 3, 3, "_hz") == 0)
    if (const auto* hz = std::get_if<double>(&value))
      return *hz < 1000 ? without_zeros(rounded(*hz, *hz < 100 ? 1 : 0)) + " Hz"
                        : without_zeros(rounded(*hz / 1000, 3)) + " kHz";
  if (name == "at_s")
    if (const auto* at = std::get_if<double>(&value)) return rounded(*at, 3) + " s";
  if (const auto* whole = std::get_if<std::int64_t>(&value)) return std::to_string(*whole);
  if (const auto* text = std::get_if<std::string>(&value)) return *text;
  return condition_text(name, value);
}

std::optional<Key> key_of(const Readings& readings) {
  if (readings.front()->entry != nullptr && readings.front()->entry->name.find("{}") != std::string::npos &&
      readings.front()->name != readings.back()->name)
    return Key{"", ""};
  for (const auto& [condition, head] : kKeys) {
    std::vector<const ConditionValue*> seen;
    const bool tells =
        std::all_of(readings.begin(), readings.end(), [&, condition = condition](const Reading* r) {
          const ConditionValue* value = find_condition(*r, condition);
          if (value == nullptr ||
              std::any_of(seen.begin(), seen.end(), [&](auto* s) { return *s == *value; }))
            return false;
          seen.push_back(value);
          return true;
        });
    if (tells) return Key{condition, head};
  }
  return std::nullopt;
}

std::string label_of(const Reading& r, const Key& key) {
  if (key.condition.empty()) return words_of(r);
  return plain_value(*find_condition(r, key.condition), key.condition);
}

std::string number_and_unit(const ValueText& value) {
  return value.number + (value.unit.empty() ? "" : " " + value.unit);
}

// A row: readings of the same words, in several units.
std::vector<std::string> row_of(const Readings& same) {
  const ValueText first = value_for_person(*same.front());
  std::string rest = first.unit;
  if (!first.uncertainty.empty()) rest += (rest.empty() ? "" : " ") + first.uncertainty;
  for (std::size_t i = 1; i < same.size(); ++i)
    rest += fmt::format("{}({})", rest.empty() ? "" : " ", number_and_unit(value_for_person(*same[i])));
  const bool worded = !same.front()->text.empty();
  return {kIndent + words_of(*same.front()), worded ? "" : first.number, worded ? first.number : rest};
}

// Readings of a kind below each other: a column for each name of the same key.
struct Kind {
  Key key;
  std::vector<Readings> columns;
};

std::vector<std::string> labels_of(const Kind& kind) {
  std::vector<std::string> labels;
  for (const Readings& column : kind.columns)
    for (const Reading* r : column) {
      const std::string label = label_of(*r, kind.key);
      if (std::find(labels.begin(), labels.end(), label) == labels.end()) labels.push_back(label);
    }
  return labels;
}

const Reading* labelled(const Readings& column, const std::string& label, const Key& key) {
  const auto found = std::find_if(column.begin(), column.end(),
                                  [&](const Reading* r) { return label_of(*r, key) == label; });
  return found == column.end() ? nullptr : *found;
}

// What a line is likely to be.
std::string remark_of(const Reading& r) {
  const ConditionValue* likely = find_condition(r, "likely");
  const auto* text = likely == nullptr ? nullptr : std::get_if<std::string>(likely);
  return text == nullptr ? "" : *text;
}

// Each label over its value, in as many rows as it takes.
std::string across(const Kind& kind, const TableStyle& style) {
  const Readings& readings = kind.columns.front();
  const bool numbered = kind.key.condition.empty();
  const std::string unit = readings.front()->unit,
                    head = numbered ? unit : words_of(*readings.front()) + (unit.empty() ? "" : ", " + unit);
  std::vector<std::string> labels, values;
  std::size_t cell = 0;
  for (const Reading* r : readings) {
    labels.push_back(label_of(*r, kind.key));
    values.push_back(short_text(*r));
    cell = std::max({cell, width(labels.back()), width(values.back())});
  }
  const std::size_t lead = 2 + std::max(width(head), width(kind.key.head)),
                    room = style.columns > lead ? style.columns - lead : 0,
                    most = std::max<std::size_t>(1, room / (cell + 2)),
                    lines = (labels.size() + most - 1) / most, each = (labels.size() + lines - 1) / lines;
  Rows rows;
  for (std::size_t from = 0; from < labels.size(); from += each) {
    rows.push_back({kIndent + (kind.key.head.empty() ? "" : kind.key.head)});
    rows.push_back({kIndent + (from == 0 ? head : "")});
    for (std::size_t i = from; i < std::min(from + each, labels.size()); ++i) {
      rows[rows.size() - 2].push_back(labels[i]);
      rows.back().push_back(values[i]);
    }
  }
  std::vector<bool> right(each + 1, true);
  right[0] = false;
  return aligned(rows, right);
}

std::string below(const Kind& kind, const TableStyle& style) {
  std::vector<std::string> labels = labels_of(kind);
  const std::size_t all = labels.size();
  if (all > kMostOfAKind + 1) labels.resize(kMostOfAKind);
  Rows rows;
  std::size_t deep = 0, taken = 2 + width(kind.key.head);
  for (const std::string& label : labels) taken = std::max(taken, 2 + width(label));
  std::vector<std::vector<std::string>> columns, heads;
  bool remarks = false;
  for (const Readings& readings : kind.columns) {
    std::vector<std::string> cells, head = head_lines(words_of(*readings.front()));
    // One unit for a column: frequencies in kHz where they reach it.
    const bool kilo = std::all_of(readings.begin(), readings.end(),
                                  [](const Reading* r) { return value_for_person(*r).unit != r->unit; });
    head.push_back(kilo ? value_for_person(*readings.front()).unit : readings.front()->unit);
    std::size_t widest = 0;
    for (const std::string& line : head) widest = std::max(widest, width(line));
    for (const std::string& label : labels) {
      const Reading* r = labelled(readings, label, kind.key);
      cells.push_back(r == nullptr ? "" : kilo ? value_for_person(*r).number : short_text(*r));
      widest = std::max(widest, width(cells.back()));
      remarks = remarks || (r != nullptr && !remark_of(*r).empty());
    }
    if (taken + widest + 2 > style.columns) continue;
    taken += widest + 2;
    deep = std::max(deep, head.size());
    columns.push_back(std::move(cells));
    heads.push_back(std::move(head));
  }
  for (std::size_t line = 0; line < deep; ++line) {
    rows.push_back({kIndent + (line + 1 == deep ? kind.key.head : "")});
    for (const auto& head : heads)
      rows.back().push_back(line + head.size() < deep ? "" : head[line + head.size() - deep]);
  }
  for (std::size_t i = 0; i < labels.size(); ++i) {
    rows.push_back({kIndent + labels[i]});
    for (const auto& cells : columns) rows.back().push_back(cells[i]);
    const Reading* r = remarks ? labelled(kind.columns.front(), labels[i], kind.key) : nullptr;
    if (r != nullptr) rows.back().push_back(remark_of(*r));
  }
  std::vector<bool> right(columns.size() + 1, true);
  right[0] = false;
  std::string text = aligned(rows, right);
  if (labels.size() < all) text += fmt::format("  and {} more: --all\n", all - labels.size());
  return text;
}

std::string shown_kind(const Kind& kind, const TableStyle& style) {
  const bool remarks = std::any_of(kind.columns.front().begin(), kind.columns.front().end(),
                                   [](const Reading* r) { return !remark_of(*r).empty(); });
  const bool hits = kind.key.condition == "at_s";
  return kind.columns.size() == 1 && !remarks && !hits ? across(kind, style) : below(kind, style);
}

// What is shown of one channel, or of the whole.
struct Shown {
  Rows rows;
  std::vector<Kind> kinds;
  Readings readings;
};

// A single reading of a tone, or of a line, that has a row already stands in it.
bool joins(const Readings& same, std::vector<Kind>& kinds) {
  if (same.size() > 1) return false;
  for (Kind& kind : kinds) {
    if (kind.key.condition.empty() || find_condition(*same.front(), kind.key.condition) == nullptr) continue;
    const auto labels = labels_of(kind);
    if (std::find(labels.begin(), labels.end(), label_of(*same.front(), kind.key)) == labels.end()) continue;
    kind.columns.push_back(same);
    return true;
  }
  return false;
}

Shown shown_of(const Sheet& sheet, const std::vector<std::string>& deciding, std::optional<int> channel) {
  Shown shown;
  std::vector<Readings> single;
  for (const std::string& name : deciding) {
    const Readings found = called(sheet, name, channel);
    if (found.empty()) continue;
    if (found.size() == 1) {
      const auto same = std::find_if(single.begin(), single.end(), [&](const Readings& row) {
        return words_of(*row.front()) == words_of(*found.front()) && row.front()->text.empty();
      });
      if (same == single.end())
        single.push_back(found);
      else
        same->push_back(found.front());
    } else if (const auto key = key_of(found)) {
      const auto same = std::find_if(shown.kinds.begin(), shown.kinds.end(), [&](const Kind& kind) {
        return !key->condition.empty() && kind.key.condition == key->condition;
      });
      if (same == shown.kinds.end())
        shown.kinds.push_back({*key, {found}});
      else
        same->columns.push_back(found);
    } else {
      for (const Reading* r : found) single.push_back({r});
    }
    shown.readings.insert(shown.readings.end(), found.begin(), found.end());
  }
  for (const Readings& same : single)
    if (!joins(same, shown.kinds)) shown.rows.push_back(row_of(same));
  return shown;
}

// Channels beside each other, a row for each reading; empty where they do not fit, or are too unlike.
Rows beside_each_other(const Sheet& sheet, const std::vector<int>& channels,
                       const std::vector<std::string>& deciding, const TableStyle& style) {
  Rows rows = {{kIndent}};
  for (const int channel : channels) rows[0].push_back(channel_name(sheet, channel));
  rows[0].push_back("");
  for (const std::string& name : deciding) {
    std::vector<std::string> row = {""};
    bool any = false;
    for (const int channel : channels) {
      const Readings found = called(sheet, name, channel);
      if (found.size() > 1) break;
      row.push_back(found.empty() ? "" : short_text(*found.front()));
      if (found.empty()) continue;
      any = true;
      row[0] = kIndent + words_of(*found.front());
    }
    if (!any || row.size() != channels.size() + 1) continue;
    const Readings first = called(sheet, name, channels.front());
    row.push_back(first.empty() || !first.front()->value ? "" : first.front()->unit);
    rows.push_back(std::move(row));
  }
  std::size_t wide = 0;
  for (std::size_t i = 0; i < rows[0].size(); ++i) {
    std::size_t widest = 0;
    for (const auto& row : rows) widest = std::max(widest, width(printable(row[i])));
    wide += widest + (i == 0 ? 0 : 2);
  }
  if (wide > style.columns || rows.size() == 1) rows.clear();
  return rows;
}

// Of many channels a row for each, with what there is one of.
std::string channels_below(const Sheet& sheet, const std::vector<std::string>& deciding,
                           const TableStyle& style) {
  Sheet plain = sheet;
  plain.findings.clear();
  plain.capture.file.clear();
  std::erase_if(plain.readings, [](const Reading& r) { return !r.channel; });
  return captures_table({plain}, deciding, deciding, style);
}

std::string whole_or_channel(const Shown& shown, const TableStyle& style) {
  std::string text;
  if (!shown.rows.empty()) text += aligned(shown.rows, {false, true, false});
  for (const Kind& kind : shown.kinds) text += (text.empty() ? "" : "\n") + shown_kind(kind, style);
  return text;
}

}  // namespace

std::string capture_table(const Sheet& sheet, const std::vector<std::string>& deciding,
                          const TableStyle& style) {
  std::string text = findings_text(sheet, style);
  std::vector<int> channels;
  for (const Reading& r : sheet.readings)
    if (r.channel && std::find(channels.begin(), channels.end(), *r.channel) == channels.end())
      channels.push_back(*r.channel);
  Sheet conditions;
  const auto add = [&](const Shown& shown) {
    for (const Reading* r : shown.readings) conditions.readings.push_back(*r);
  };
  std::string tables;
  const auto put = [&](const std::string& table) {
    if (!table.empty()) tables += "\n" + table;
  };
  if (channels.size() == 1) {
    // One channel and the whole are one table.
    Sheet flat = sheet;
    for (Reading& r : flat.readings) r.channel.reset();
    Shown all = shown_of(flat, deciding, std::nullopt);
    add(all);
    put(whole_or_channel(all, style));
  } else {
    const Shown whole = shown_of(sheet, deciding, std::nullopt);
    add(whole);
    put(whole_or_channel(whole, style));
    const Rows rows = beside_each_other(sheet, channels, deciding, style);
    if (!rows.empty()) {
      std::vector<bool> right(rows[0].size(), true);
      right.front() = right.back() = false;
      put(aligned(rows, right));
    }
    const bool many = rows.empty() && channels.size() > kMostBlocks;
    if (many) return text + tables + channels_below(sheet, deciding, style);
    for (const int channel : channels) {
      Shown shown = shown_of(sheet, deciding, channel);
      add(shown);
      if (!rows.empty()) shown.rows.clear();
      const std::string table = whole_or_channel(shown, style);
      if (!table.empty()) put("  " + printable(channel_name(sheet, channel)) + "\n" + table);
    }
  }
  if (tables.empty()) return text;
  return text + tables + shared_conditions({conditions}, style, kMore);
}

}  // namespace wavicon
