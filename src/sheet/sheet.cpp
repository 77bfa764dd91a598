// SPDX-License-Identifier: MIT
#include "wavicon/sheet/sheet.hpp"

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

const ConditionValue* find_condition(const Reading& reading, const std::string& name) {
  const auto found = std::find_if(reading.conditions.begin(), reading.conditions.end(),
                                  [&](const auto& condition) { return condition.first == name; });
  return found == reading.conditions.end() ? nullptr : &found->second;
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
