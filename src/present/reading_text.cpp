// SPDX-License-Identifier: MIT
#include "reading_text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::present_detail {
namespace {

constexpr double kPlainBound = 20;  // in its unit: larger bounds are whole numbers

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

bool same(const ConditionValue* a, const ConditionValue& b) { return a != nullptr && *a == b; }

}  // namespace

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

// With the digits of its entry in the catalogue, or fewer where it is not as sure as that; what comes from
// elsewhere as it is.
std::string number_text(double value, const ReadingEntry* entry, double uncertainty) {
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
    return plain_text(value) == "sine" ? "RMS of a full-scale sine = 0" : "RMS, full scale = 1";
  if (name == "floor_format") return "floor: clean tone as " + plain_text(value);
  std::string words = name;
  for (const auto& [suffix, unit] : std::initializer_list<std::pair<const char*, const char*>>{
           {"_hz", " Hz"}, {"_dbfs", " dBFS"}, {"_db", " dB"}, {"_s", " s"}, {"_samples", " samples"}}) {
    const std::string ending = suffix;
    if (words.size() <= ending.size() ||
        words.compare(words.size() - ending.size(), ending.size(), ending) != 0)
      continue;
    words.resize(words.size() - ending.size());
    std::replace(words.begin(), words.end(), '_', ' ');
    const int digits = ending[1] == 'd' ? 2 : 3;
    const bool rounds = real != nullptr && (ending[1] == 'd' || ending == "_s") && std::abs(*real) >= 0.01;
    return words + " " + (rounds ? without_zeros(rounded(*real, digits)) : plain_text(value)) + unit;
  }
  std::replace(words.begin(), words.end(), '_', ' ');
  return words + " " + plain_text(value);
}

bool shared_by_all(const std::pair<std::string, ConditionValue>& condition,
                   const std::vector<const Reading*>& readings) {
  return std::all_of(readings.begin(), readings.end(), [&](const Reading* r) {
    return same(find_condition(*r, condition.first), condition.second);
  });
}

std::string words_of(const Reading& reading) {
  if (reading.entry == nullptr || reading.entry->words.empty()) return reading.name;
  std::string words = reading.entry->words;
  const std::string& pattern = reading.entry->name;
  const std::size_t at = words.find("{}"), hole = pattern.find("{}");
  // Readings of a part carry its name before their own: "soft_thd_db".
  if (hole == std::string::npos && reading.name.size() > pattern.size() + 1 &&
      reading.name.compare(reading.name.size() - pattern.size(), pattern.size(), pattern) == 0) {
    std::string part = reading.name.substr(0, reading.name.size() - pattern.size() - 1);
    std::replace(part.begin(), part.end(), '_', ' ');
    return part + ": " + words;
  }
  if (at == std::string::npos || hole == std::string::npos) return words;
  const std::size_t after = pattern.size() - hole - 2;
  return words.replace(at, 2, reading.name.substr(hole, reading.name.size() - hole - after));
}

std::string short_text(const Reading& reading) {
  if (!reading.bound || !reading.value || reading.entry == nullptr) return value_text(reading);
  // Rounded up, it stays a bound.
  const int digits = std::abs(*reading.value) >= kPlainBound ? 0 : reading.entry->digits;
  const double step = std::pow(10.0, -digits);
  return "< " + rounded(std::ceil(*reading.value / step) * step, digits);
}

ValueText value_for_person(const Reading& reading) {
  ValueText text{short_text(reading), reading.value ? reading.unit : "", uncertainty_text(reading)};
  if (reading.unit != "Hz" || !reading.value || std::abs(*reading.value) < 1000) return text;
  constexpr double kKilo = 1000;
  ReadingEntry in_khz;
  in_khz.digits = (reading.entry != nullptr ? reading.entry->digits : 0) + 3;
  in_khz.unit = text.unit = "kHz";
  Reading scaled = reading;
  scaled.entry = &in_khz;
  scaled.value = *reading.value / kKilo;
  if (reading.uncertainty) scaled.uncertainty = *reading.uncertainty / kKilo;
  text.number = (reading.bound ? "< " : "") +
                without_zeros(number_text(*scaled.value, &in_khz, scaled.uncertainty.value_or(0)));
  text.uncertainty = uncertainty_text(scaled);
  return text;
}

}  // namespace wavicon::present_detail
