// SPDX-License-Identifier: MIT
#include "wavicon/sheet/catalogue.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cctype>
#include <stdexcept>

namespace wavicon {
namespace {

constexpr std::string_view kNumber = "{}";

bool is_digit(char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0; }

// "h{}_dbc" fits "h3_dbc" and "h12_dbc".
bool fits(std::string_view pattern, std::string_view name) {
  const auto at = pattern.find(kNumber);
  if (at == std::string_view::npos) return pattern == name;
  const std::string_view before = pattern.substr(0, at), after = pattern.substr(at + kNumber.size());
  if (name.size() <= before.size() + after.size()) return false;
  const std::string_view middle = name.substr(before.size(), name.size() - before.size() - after.size());
  return name.substr(0, before.size()) == before && name.substr(name.size() - after.size()) == after &&
         std::all_of(middle.begin(), middle.end(), is_digit);
}

std::string law_text(const ReadingEntry& entry) {
  std::string text;
  switch (entry.gain) {
    case GainLaw::same:
      text = "a gain of the capture does not move it";
      break;
    case GainLaw::adds:
      text = "1 dB of gain moves it by 1 dB";
      break;
    case GainLaw::scales:
      text = "it scales with the capture's amplitude";
      break;
    case GainLaw::other:
      text = "it depends on the capture's level in a way of its own";
      break;
  }
  if (entry.polarity == PolarityLaw::turns_sign) text += "; inverting the polarity turns its sign";
  if (entry.rate == RateLaw::scales) text += "; it counts samples, so it scales with the sample rate";
  return text;
}

std::string owed_text(Owes owes) {
  switch (owes) {
    case Owes::no:
      return "none";
    case Owes::always:
      return "with every value";
    case Owes::sometimes:
      return "where it can be told";
  }
  return {};
}

}  // namespace

const ReadingEntry* find_entry(const ReadingTable& table, std::string_view name) {
  const auto found = std::find_if(table.entries.begin(), table.entries.end(),
                                  [&](const ReadingEntry& entry) { return fits(entry.name, name); });
  return found == table.entries.end() ? nullptr : &*found;
}

Reading make_reading(const ReadingTable& table, std::string_view name, std::optional<int> channel,
                     std::optional<double> value, Conditions conditions) {
  const ReadingEntry* entry = find_entry(table, name);
  if (entry == nullptr)
    throw std::logic_error(fmt::format(
        "'{}' is no reading of the measurement '{}': its table has no such entry", name, table.measurement));
  Reading reading;
  reading.name = name;
  reading.channel = channel;
  reading.value = value;
  reading.unit = entry->unit;
  reading.conditions = std::move(conditions);
  reading.entry = entry;
  return reading;
}

std::vector<std::string> missing_of(const Reading& reading) {
  std::vector<std::string> missing;
  if (reading.entry == nullptr) return missing;
  for (const std::string& name : reading.entry->conditions)
    if (find_condition(reading, name) == nullptr) missing.push_back("condition " + name);
  if (!reading.value) return missing;
  if (reading.entry->floor == Owes::always && !reading.floor) missing.emplace_back("floor");
  if (reading.entry->uncertainty == Owes::always && !reading.bound && !reading.uncertainty)
    missing.emplace_back("uncertainty");
  return missing;
}

std::string explanation(const ReadingEntry& entry, const std::string& measurement) {
  std::string words = entry.words;
  if (const std::size_t hole = words.find("{}"); hole != std::string::npos) words.replace(hole, 2, "n");
  std::string text = fmt::format("{} ({}): {}{}\n", entry.name, measurement, words,
                                 entry.unit.empty() ? "" : ", in " + entry.unit);
  text += fmt::format("  {}\n", entry.definition);
  if (!entry.source.empty()) text += fmt::format("  Source: {}\n", entry.source);
  if (!entry.misleads.empty()) text += fmt::format("  Misleads: {}\n", entry.misleads);
  text += fmt::format("  Behaviour: {}\n", law_text(entry));
  text +=
      fmt::format("  Floor: {}. Uncertainty: {}.\n", owed_text(entry.floor), owed_text(entry.uncertainty));
  if (entry.better != Better::neither)
    text += fmt::format("  Better: {}.\n", entry.better == Better::lower    ? "the lower"
                                           : entry.better == Better::higher ? "the higher"
                                                                            : "the nearer to zero");
  if (!entry.conditions.empty()) text += fmt::format("  Conditions: {}\n", fmt::join(entry.conditions, ", "));
  return text;
}

}  // namespace wavicon
