// SPDX-License-Identifier: MIT
#include "wavicon/sheet/sheet.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wavicon {

std::string channel_name(const Sheet& sheet, int channel) {
  const auto index = static_cast<std::size_t>(channel);
  return index < sheet.channel_names.size() ? sheet.channel_names[index]
                                            : "channel " + std::to_string(channel + 1);
}

const Reading* find_reading(const Sheet& sheet, const std::string& name, std::optional<int> channel) {
  const auto found = std::find_if(sheet.readings.begin(), sheet.readings.end(),
                                  [&](const Reading& r) { return r.name == name && r.channel == channel; });
  return found == sheet.readings.end() ? nullptr : &*found;
}

const ConditionValue* find_condition(const Conditions& conditions, const std::string& name) {
  const auto found = std::find_if(conditions.begin(), conditions.end(),
                                  [&](const auto& condition) { return condition.first == name; });
  return found == conditions.end() ? nullptr : &found->second;
}

const ConditionValue* find_condition(const Reading& reading, const std::string& name) {
  return find_condition(reading.conditions, name);
}

std::string plain_text(const ConditionValue& value) {
  if (const auto* real = std::get_if<double>(&value)) return fmt::format("{:.6g}", *real);
  if (const auto* text = std::get_if<std::string>(&value)) return *text;
  if (const auto* whole = std::get_if<std::int64_t>(&value)) return std::to_string(*whole);
  if (const auto* yes = std::get_if<bool>(&value)) return *yes ? "yes" : "no";
  std::string text;
  for (const double item : std::get<std::vector<double>>(value))
    text += fmt::format("{}{:g}", text.empty() ? "" : ", ", item);
  return text;
}

std::string name_of(Severity severity) {
  switch (severity) {
    case Severity::note:
      return "note";
    case Severity::warning:
      return "warning";
    default:
      return "fault";
  }
}

}  // namespace wavicon
