// SPDX-License-Identifier: MIT
#include "wavicon/present/table.hpp"

#include "table_parts.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/sheet/catalogue.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace wavicon {
namespace {

using present_detail::width;

std::string rounded(double value, int digits) {
  const std::string text = fmt::format("{:.{}f}", value, digits);
  return text.find_first_not_of("-0.") == std::string::npos && text[0] == '-' ? text.substr(1)
                                                                              : text;  // no "-0.00"
}

std::string without_zeros(std::string text) {
  if (text.find('.') == std::string::npos) return text;
  while (text.back() == '0') text.pop_back();
  if (text.back() == '.') text.pop_back();
  return text;
}

// Digits after the point that a figure as sure as that deserves: its uncertainty is told by one of 3 … 9, or
// by two.
int places_for(double uncertainty) {
  constexpr int kMost = 12;
  int places = 0;
  for (double u = uncertainty; u < 3 && places < kMost; u *= 10) ++places;
  return places;
}

// Of a percentage all digits count: those before the point, or less the zeros behind it.
int digits_before_point(double value) {
  int before = 0;
  for (double v = std::abs(value); v >= 1; v /= 10) ++before;
  for (double v = std::abs(value); before <= 0 && v > 0 && v < 0.1; v *= 10) --before;
  return before;
}

// With the digits of its entry in the catalogue, or fewer where it is not as sure as that; what comes from
// elsewhere as it is.
std::string number_text(double value, const ReadingEntry* entry, double uncertainty = 0) {
  if (entry == nullptr) return fmt::format("{:.6g}", value);
  int digits = entry->digits;
  if (entry->unit == "%") {
    const int before = digits_before_point(value);
    if (uncertainty > 0) digits = std::clamp(before + places_for(uncertainty), 1, digits);
    return fmt::format("{:.{}g}", value, digits);
  }
  if (uncertainty > 0) digits = std::min(digits, places_for(uncertainty));
  if (entry->unit == "samples" || entry->unit == "ms") return without_zeros(rounded(value, digits));
  return entry->unit.empty() ? without_zeros(rounded(value, digits)) : rounded(value, digits);
}

// Nothing where the digits that are shown are sure.
std::string uncertainty_text(const Reading& reading) {
  if (!reading.uncertainty || !reading.value || reading.bound) return "";
  const double u = *reading.uncertainty;
  const int digits = reading.entry == nullptr ? 3 : reading.entry->digits;
  if (reading.unit == "%")
    return places_for(u) <= digits - digits_before_point(*reading.value) + 1 ? fmt::format("±{:.2g}", u) : "";
  const std::string text = rounded(u, std::min(digits, places_for(u)));
  return text.find_first_not_of("0.") == std::string::npos ? "" : "±" + text;
}

std::string frequency_text(double hz) {
  return std::abs(hz) >= 10000 && std::fmod(hz, 100) == 0 ? fmt::format("{:g} kHz", hz / 1000)
                                                          : fmt::format("{:.7g} Hz", hz);
}

// [2, 3, 4] as "H2 to H4", [2, 4] as "H2, H4".
std::string orders_text(const std::vector<double>& orders) {
  if (orders.empty()) return "no order";
  if (orders.size() > 2 && orders.back() - orders.front() == static_cast<double>(orders.size() - 1))
    return fmt::format("H{:g} to H{:g}", orders.front(), orders.back());
  std::string text;
  for (const double order : orders) text += fmt::format("{}H{:g}", text.empty() ? "" : ", ", order);
  return text;
}

std::string plain(const ConditionValue& value) {
  if (const auto* real = std::get_if<double>(&value)) return fmt::format("{:.6g}", *real);
  if (const auto* text = std::get_if<std::string>(&value)) return *text;
  if (const auto* whole = std::get_if<std::int64_t>(&value)) return std::to_string(*whole);
  if (const auto* yes = std::get_if<bool>(&value)) return *yes ? "yes" : "no";
  std::string text;
  for (const double item : std::get<std::vector<double>>(value))
    text += fmt::format("{}{:g}", text.empty() ? "" : ", ", item);
  return text;
}

// A circumstance in words: its name's suffix becomes the unit.
std::string condition_text(const std::string& name, const ConditionValue& value) {
  const auto* real = std::get_if<double>(&value);
  if (name == "bandwidth_hz")
    if (const auto* band = std::get_if<std::vector<double>>(&value); band != nullptr && band->size() == 2)
      return fmt::format("{} to {}", frequency_text(band->at(0)), frequency_text(band->at(1)));
  if (name == "orders")
    if (const auto* orders = std::get_if<std::vector<double>>(&value)) return orders_text(*orders);
  if (name == "folded_orders")
    if (const auto* orders = std::get_if<std::vector<double>>(&value))
      return orders_text(*orders) + " folded";
  if (name == "at_hz" && real != nullptr) return "at " + frequency_text(*real);
  if (name == "noise_dbc" && real != nullptr) return fmt::format("noise {:.1f}", *real);
  if (name == "folded") return "folded";
  if (name == "rms_reference")
    return plain(value) == "sine" ? "RMS of a full-scale sine = 0" : "RMS, full scale = 1";
  if (name == "floor_format") return "floor: clean tone as " + plain(value);
  std::string words = name;
  for (const auto& [suffix, unit] : std::initializer_list<std::pair<const char*, const char*>>{
           {"_hz", " Hz"}, {"_dbfs", " dBFS"}, {"_db", " dB"}, {"_s", " s"}, {"_samples", " samples"}}) {
    const std::string ending = suffix;
    if (words.size() <= ending.size() ||
        words.compare(words.size() - ending.size(), ending.size(), ending) != 0)
      continue;
    words.resize(words.size() - ending.size());
    std::replace(words.begin(), words.end(), '_', ' ');
    return words + " " + plain(value) + unit;
  }
  std::replace(words.begin(), words.end(), '_', ' ');
  return words + " " + plain(value);
}

bool same(const ConditionValue* a, const ConditionValue& b) { return a != nullptr && *a == b; }

bool shared_by_all(const std::pair<std::string, ConditionValue>& condition,
                   const std::vector<const Reading*>& readings) {
  return std::all_of(readings.begin(), readings.end(), [&](const Reading* r) {
    return same(find_condition(*r, condition.first), condition.second);
  });
}

std::string joined(const Conditions& conditions, const char* separator) {
  std::string text;
  for (const auto& [name, value] : conditions)
    text += (text.empty() ? "" : separator) + condition_text(name, value);
  return text;
}

// Circumstances in lines that fit a narrow terminal.
std::string wrapped(const Conditions& conditions) {
  constexpr std::size_t kColumns = 100;
  std::string text, line;
  for (const auto& [name, value] : conditions) {
    const std::string words = condition_text(name, value);
    if (!line.empty() && width(line) + 3 + width(words) > kColumns) {
      text += "  " + line + " ·\n";
      line.clear();
    }
    line += (line.empty() ? "" : " · ") + words;
  }
  return text + "  " + line + "\n";
}

std::string channel_table(const std::vector<const Reading*>& readings) {
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
  std::string text = aligned(rows, right);
  if (!common.empty()) text += "\n" + wrapped(common);
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

std::string value_text(const Reading& reading) {
  if (!reading.text.empty()) return reading.text;
  if (!reading.value) return "none";
  return (reading.bound ? "< " : "") +
         number_text(*reading.value, reading.entry, reading.bound ? 0 : reading.uncertainty.value_or(0));
}

std::string level_text(double peak, int digits) {
  return peak > 0 ? fmt::format("{:.{}f} dBFS", db_from_ratio(peak), digits) : "silent";
}

std::string sheet_table(const Sheet& sheet) {
  std::string text;
  const bool several = sheet.capture.channels > 1;
  for (const Finding& finding : sheet.findings) {
    text += printable(sheet.capture.file.empty() ? sheet.measurement : sheet.capture.file);
    if (finding.channel && several) text += ", " + channel_name(sheet, *finding.channel);
    text += ": " + (finding.severity == Severity::note ? "" : name_of(finding.severity) + ": ") +
            printable(finding.text) + "\n";
  }
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
    text += channel_table(readings);
  }
  return text;
}

std::string shared_conditions(const std::vector<Sheet>& sheets) {
  std::vector<const Reading*> readings;
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings) readings.push_back(&r);
  Conditions common;
  if (readings.empty()) return "";
  for (const auto& condition : readings.front()->conditions)
    if (shared_by_all(condition, readings)) common.push_back(condition);
  return common.empty() ? "" : wrapped(common);
}

std::string limit_lines(const std::vector<LimitResult>& results) {
  std::string text;
  for (const LimitResult& r : results) {
    const char* word = r.outcome == LimitResult::Outcome::kept     ? "kept"
                       : r.outcome == LimitResult::Outcome::broken ? "not kept"
                                                                   : "undecided, which counts as not kept";
    text += fmt::format("limit {}{}: {} ({})\n", r.limit,
                        r.channel ? fmt::format(", channel {}", *r.channel + 1) : "", word,
                        r.value ? number_text(*r.value, r.entry) + (r.unit.empty() ? "" : " " + r.unit)
                                : "there is no value");
  }
  return text;
}

}  // namespace wavicon
