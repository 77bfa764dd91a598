// SPDX-License-Identifier: MIT
#include "bench/conditions.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <nlohmann/json.hpp>
#include <string_view>

#include "wavicon/bench/examination.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::bench_detail {
namespace {

using Json = nlohmann::ordered_json;

constexpr double kLevelsDb = 0.5, kOthers = 0.01, kRates = 1e-4;

// Where it was looked, by which tool, and what was found out: not what was measured. What a reading is
// meaningless without (a definition's threshold, a weighting, faults that were passed over) is not among
// them.
constexpr auto kBeside = std::to_array<std::string_view>({"a",
                                                          "at_s",
                                                          "averages",
                                                          "b",
                                                          "by",
                                                          "coherence",
                                                          "common_delay_samples",
                                                          "confidence",
                                                          "constant_ms",
                                                          "delay_samples",
                                                          "duration_s",
                                                          "fit_error_db",
                                                          "floor_format",
                                                          "from_s",
                                                          "full_scale_vrms",
                                                          "fundamental_dbfs",
                                                          "likely",
                                                          "mains_hz",
                                                          "match",
                                                          "matched_dbfs",
                                                          "measured_hz",
                                                          "reason",
                                                          "second_constant_ms",
                                                          "share",
                                                          "spread_db",
                                                          "window",
                                                          "window_s"});
// Of the worst: which one that is.
constexpr auto kWhichIsWorst = std::to_array<std::string_view>({"at_hz", "order", "tone_hz"});

bool is_in(std::string_view name, const auto& list) {
  return std::find(list.begin(), list.end(), name) != list.end();
}

bool is_beside(const std::string& measurement, const std::string& reading, const std::string& condition) {
  if (is_in(condition, kBeside)) return true;
  // What was played is A's file in most; a null's depth is one of this A.
  if (condition == "reference") return measurement != "null";
  const bool of_the_worst = reading.find("worst") != std::string::npos ||
                            reading.find("_max_") != std::string::npos || reading.rfind("highest", 0) == 0 ||
                            reading == "spur_dbfs" || reading == "notch_db";
  if (of_the_worst) return is_in(condition, kWhichIsWorst);
  return reading == "alias_dbc" && condition != "order" && is_in(condition, kWhichIsWorst);
}

bool ends_in(const std::string& name, std::string_view end) {
  return name.size() >= end.size() && name.compare(name.size() - end.size(), end.size(), end) == 0;
}

double to_four_digits(double value) { return std::strtod(fmt::format("{:.4g}", value).c_str(), nullptr); }

bool near(const std::string& name, double a, double b) {
  if (!std::isfinite(a) || !std::isfinite(b)) return std::isfinite(a) == std::isfinite(b);
  if (name == "sample_rate_hz") return std::abs(a - b) <= kRates * std::max(std::abs(a), std::abs(b));
  if (ends_in(name, "_db") || ends_in(name, "_dbfs") || ends_in(name, "_dbc") || ends_in(name, "_dbu"))
    return std::abs(a - b) <= kLevelsDb;
  return std::abs(a - b) <= kOthers * std::max(std::abs(a), std::abs(b));
}

// A whole number compares with one that is not.
std::optional<double> number_in(const ConditionValue& value) {
  if (const auto* real = std::get_if<double>(&value)) return *real;
  if (const auto* whole = std::get_if<std::int64_t>(&value)) return static_cast<double>(*whole);
  return std::nullopt;
}

bool same(const std::string& name, const ConditionValue& a, const ConditionValue& b) {
  const auto x = number_in(a), y = number_in(b);
  if (x && y) return near(name, *x, *y);
  const auto *p = std::get_if<std::vector<double>>(&a), *q = std::get_if<std::vector<double>>(&b);
  if (p != nullptr && q != nullptr)
    return p->size() == q->size() &&
           std::equal(p->begin(), p->end(), q->begin(), [&](double u, double v) { return near(name, u, v); });
  return a == b;
}

std::string plain(const ConditionValue* value) { return value == nullptr ? "none" : plain_text(*value); }

}  // namespace

const ReadingEntry* entry_of(const std::string& measurement, const std::string& reading) {
  static const auto kTables = [] {
    std::multimap<std::string, const ReadingTable*> tables;
    for (const ReadingTable* table : reading_tables(measurements()))
      tables.emplace(table->measurement, table);
    tables.emplace(examination_readings().measurement, &examination_readings());
    return tables;
  }();
  const auto [first, last] = kTables.equal_range(measurement);
  for (auto table = first; table != last; ++table)
    if (const ReadingEntry* entry = find_entry(*table->second, reading)) return entry;
  return nullptr;
}

Conditions comparable(const std::string& measurement, const Reading& reading) {
  Conditions kept;
  for (const auto& [name, value] : reading.conditions) {
    if (is_beside(measurement, reading.name, name) || find_condition(kept, name) != nullptr) continue;
    ConditionValue rounded = value;
    if (auto* real = std::get_if<double>(&rounded)) {
      if (!std::isfinite(*real)) continue;
      *real = to_four_digits(*real);
    }
    if (auto* list = std::get_if<std::vector<double>>(&rounded))
      for (double& item : *list) item = to_four_digits(item);
    kept.emplace_back(name, std::move(rounded));
  }
  std::sort(kept.begin(), kept.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  return kept;
}

std::string conditions_text(const Conditions& conditions) {
  Json object = Json::object();
  for (const auto& [name, value] : conditions)
    std::visit([&, &key = name](const auto& v) { object[key] = v; }, value);
  return object.dump(-1, ' ', false, Json::error_handler_t::replace);
}

Conditions parse_conditions(const std::string& text) {
  Conditions conditions;
  const Json object = Json::parse(text, nullptr, false);
  if (!object.is_object()) return conditions;
  for (const auto& [name, value] : object.items()) {
    if (value.is_boolean()) conditions.emplace_back(name, value.get<bool>());
    if (value.is_string()) conditions.emplace_back(name, value.get<std::string>());
    if (value.is_number_integer()) conditions.emplace_back(name, value.get<std::int64_t>());
    if (value.is_number_float()) conditions.emplace_back(name, value.get<double>());
    if (value.is_array()) {
      std::vector<double> list;
      for (const Json& item : value)
        if (item.is_number()) list.push_back(item.get<double>());
      conditions.emplace_back(name, std::move(list));
    }
  }
  return conditions;
}

std::string difference(const Conditions& conditions, const Conditions& from) {
  for (const auto& [name, value] : from) {
    const ConditionValue* other = find_condition(conditions, name);
    if (other == nullptr || !same(name, *other, value))
      return fmt::format("{} {} (not {})", name, plain(other), plain(&value));
  }
  for (const auto& [name, value] : conditions)
    if (find_condition(from, name) == nullptr) return fmt::format("{} {} (not none)", name, plain(&value));
  return "";
}

}  // namespace wavicon::bench_detail
