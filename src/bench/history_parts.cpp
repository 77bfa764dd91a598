// SPDX-License-Identifier: MIT
#include "bench/history_parts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <set>

#include "bench/conditions.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon::bench_detail {

std::string count_word(std::size_t count) {
  constexpr std::array kWords = {"none",  "one",   "two",  "three", "four",   "five",  "six",
                                 "seven", "eight", "nine", "ten",   "eleven", "twelve"};
  return count < kWords.size() ? kWords[count] : std::to_string(count);
}

std::string day_text(std::int64_t seconds) { return time_text(seconds).substr(0, 10); }

std::string words_of(const Reading& reading) {
  if (reading.entry == nullptr) return reading.name;
  std::string words = reading.entry->words;
  const auto hole = words.find("{}");
  if (hole == std::string::npos) return words;
  const auto digit = reading.name.find_first_of("0123456789"),
             end = reading.name.find_first_not_of("0123456789", digit);
  return words.replace(hole, 2, digit == std::string::npos ? "" : reading.name.substr(digit, end - digit));
}

double both(const Reading& a, const Reading& b) {
  return std::hypot(a.uncertainty.value_or(0), b.uncertainty.value_or(0));
}

FigureChange change_between(const Reading& from, const Reading& to) {
  const std::string unit = to.unit.rfind("dB", 0) == 0 ? "dB" : to.unit == "LUFS" ? "LU" : to.unit;
  return {*to.value - *from.value, both(from, to), unit, to.entry};
}

double worse_by(Better better, double a, double b) {
  switch (better) {
    case Better::lower:
      return a - b;
    case Better::higher:
      return b - a;
    case Better::nearer_to_zero:
      return std::abs(a) - std::abs(b);
    default:
      return 0;
  }
}

void require_reading(const Logbook& logbook, const std::string& name) {
  const auto names = logbook.reading_names();
  if (names.empty())
    throw Error(ErrorCode::bad_input, fmt::format("logbook {}: is empty: --keep, with any measurement, keeps "
                                                  "what it says",
                                                  logbook.name()));
  if (std::find(names.begin(), names.end(), name) == names.end())
    throw Error(ErrorCode::bad_argument, fmt::format("logbook {}: no entry has a reading '{}'{}",
                                                     logbook.name(), name, name_hint(name, names)));
}

std::vector<KeptReading> readings_or_fail(const Logbook& logbook, const std::string& name,
                                          const EntryFilter& filter) {
  auto readings = logbook.readings(name, filter);
  if (!readings.empty()) return readings;
  require_reading(logbook, name);
  throw Error(ErrorCode::bad_input,
              fmt::format("logbook {}: of the entries that are meant none has a reading "
                          "'{}'; 'wavicon logbook list' shows them",
                          logbook.name(), name));
}

std::vector<Comparable> grouped(const std::vector<KeptReading>& readings, std::optional<int> channel,
                                Better better) {
  struct Group {
    Comparable found;
    const ReadingEntry* entry = nullptr;
    std::map<std::int64_t, std::size_t> place;  // of an entry's reading
  };
  std::vector<Group> groups;
  std::map<std::pair<std::int64_t, const ReadingEntry*>, std::size_t> known;
  for (const KeptReading& one : readings) {
    if (channel && one.view >= 0 && one.view != *channel) continue;
    const std::pair key{one.circumstance, one.reading.entry};
    auto at = known.find(key);
    if (at == known.end()) {
      const auto same = std::find_if(groups.begin(), groups.end(), [&](const Group& group) {
        return group.entry == one.reading.entry &&
               difference(one.reading.conditions, group.found.readings.front().reading.conditions).empty();
      });
      const auto place = static_cast<std::size_t>(same - groups.begin());
      if (place == groups.size()) groups.push_back({.entry = one.reading.entry});
      at = known.emplace(key, place).first;
    }
    Group& group = groups[at->second];
    const auto [place, fresh] = group.place.try_emplace(one.entry, group.found.readings.size());
    if (fresh) {
      group.found.readings.push_back(one);
      continue;
    }
    KeptReading& worst = group.found.readings[place->second];
    if (worse_by(better, *one.reading.value, *worst.reading.value) > 0) worst = one;
  }
  if (groups.empty() && !readings.empty())
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("no entry that is meant has a reading '{}' of channel {}; without --channel the worse "
                    "one of each is taken",
                    readings.front().reading.name, channel.value_or(0) + 1));
  // The latest entry's; of several, the one that compares with most.
  std::stable_sort(groups.begin(), groups.end(), [](const Group& a, const Group& b) {
    const auto latest = [](const Group& group) {
      const KeptReading& last = group.found.readings.back();
      return std::tuple(last.made_s, last.entry, group.found.readings.size());
    };
    return latest(a) > latest(b);
  });
  std::vector<Comparable> result;
  for (Group& group : groups) {
    if (!result.empty()) {
      const Reading &own = group.found.readings.front().reading,
                    &first = result.front().readings.front().reading;
      group.found.apart = difference(own.conditions, first.conditions);
      if (group.found.apart.empty()) group.found.apart = "of another measurement";
    }
    result.push_back(std::move(group.found));
  }
  return result;
}

std::map<std::int64_t, LogbookEntry> entries_of(const Logbook& logbook,
                                                const std::vector<std::int64_t>& ids) {
  constexpr std::size_t kAtOnce = 500;  // values that a statement takes
  std::map<std::int64_t, LogbookEntry> found;
  for (std::size_t first = 0; first < ids.size(); first += kAtOnce) {
    EntryFilter filter;
    filter.ids.assign(ids.begin() + static_cast<std::ptrdiff_t>(first),
                      ids.begin() + static_cast<std::ptrdiff_t>(std::min(ids.size(), first + kAtOnce)));
    for (LogbookEntry& entry : logbook.entries(filter)) found.emplace(entry.id, std::move(entry));
  }
  return found;
}

std::string arithmetic_remark(const std::vector<LogbookEntry>& entries) {
  std::set<std::pair<int, std::string>> kinds;
  std::set<int> arithmetic;
  for (const LogbookEntry& entry : entries) {
    if (entry.arithmetic == 0) continue;
    kinds.emplace(entry.arithmetic, entry.version);
    arithmetic.insert(entry.arithmetic);
  }
  if (arithmetic.size() < 2) return "";
  std::string text;
  for (const auto& [number, version] : kinds)
    text += fmt::format("{}{} ({})", text.empty() ? "" : ", ", version, number);
  return fmt::format(
      "measured by programs that do not compute all figures alike: wavicon {}; CHANGELOG, \"Changed "
      "results\", "
      "says which moved",
      text);
}

void remark(Page& page, const std::string& text) {
  if (!text.empty() && std::find(page.remarks.begin(), page.remarks.end(), text) == page.remarks.end())
    page.remarks.push_back(text);
}

}  // namespace wavicon::bench_detail
