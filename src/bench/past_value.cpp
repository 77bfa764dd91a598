// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>

#include "bench/conditions.hpp"
#include "bench/history_parts.hpp"
#include "bench/plan_names.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/bench/history.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

struct Named {
  std::string word;
  Added added;
};

bool is_word(const std::string& text) { return text == "last" || text == "first" || text == "best"; }

// "last+0.3": a word, or a label that is there, and what is added to it.
Named parse(const std::string& text, const std::vector<std::string>& labels) {
  const auto known = [&](const std::string& word) {
    return is_word(word) || std::find(labels.begin(), labels.end(), word) != labels.end();
  };
  if (known(text)) return {text};
  const auto sign = text.find_last_of("+-");
  if (sign == std::string::npos || sign == 0) return {text};
  std::string word = text.substr(0, sign);
  while (!word.empty() && word.back() == ' ') word.pop_back();
  const auto added = parse_added(text.substr(sign));
  return added ? Named{word, *added} : Named{text};
}

}  // namespace

namespace bench_detail {

std::optional<Added> parse_added(std::string text) {
  text.erase(std::remove(text.begin(), text.end(), ' '), text.end());
  if (text.empty()) return Added{};
  if (text == "+u" || text == "-u") return Added{.uncertainties = text[0] == '+' ? 1.0 : -1.0};
  if (const auto number = number_in(text)) return Added{.number = *number};
  return std::nullopt;
}

double added_to(const Added& added, const Reading& kept, const Reading& own) {
  return added.number + added.uncertainties * both(kept, own);
}

}  // namespace bench_detail

PastValue past_value(const Logbook& logbook, const EntryFilter& filter, const Limit& limit,
                     const Sheet& sheet, const Reading& reading) {
  const auto labels = logbook.labels();
  const Named named = parse(limit.past, labels);
  const auto fail = [&](const std::string& what) {
    return Error(ErrorCode::bad_input, fmt::format("limit '{}': {}", limit.text, what));
  };
  EntryFilter meant = filter;
  meant.measurement = sheet.measurement;
  if (!is_word(named.word)) {
    if (std::find(labels.begin(), labels.end(), named.word) == labels.end())
      throw fail(
          fmt::format("'{}' is no number, none of last, first and best, and no label in the logbook {}{}",
                      named.word, logbook.name(), name_hint(named.word, labels)));
    meant.label = named.word;
  }
  const Conditions own = comparable(sheet.measurement, reading);
  std::vector<KeptReading> fitting;
  std::string apart;
  for (const KeptReading& one : logbook.readings(reading.name, meant)) {
    if (one.view != reading.channel.value_or(-1)) continue;
    const std::string differs = difference(one.reading.conditions, own);
    if (differs.empty())
      fitting.push_back(one);
    else
      apart = differs;
  }
  if (fitting.empty())
    throw fail(
        fmt::format("the logbook {} holds no {} of {}{}{}: --keep, with this measurement, makes it the "
                    "first",
                    logbook.name(), reading.name, sheet.measurement,
                    meant.tags.empty() && !meant.label ? "" : " with this label and these tags",
                    apart.empty() ? "" : " under these conditions; the latest has " + apart));
  const KeptReading* found = named.word == "first" ? &fitting.front() : &fitting.back();
  if (named.word == "best") {
    const Better better = found->reading.entry == nullptr ? Better::neither : found->reading.entry->better;
    if (better == Better::neither)
      throw fail(
          fmt::format("{} has no better and worse; last, first or a label say which is meant", reading.name));
    found =
        &*std::min_element(fitting.begin(), fitting.end(), [&](const KeptReading& a, const KeptReading& b) {
          return worse_by(better, *a.reading.value, *b.reading.value) < 0;
        });
  }
  return {*found->reading.value + added_to(named.added, found->reading, reading),
          fmt::format("{}{:.6g}{}{} in entry {}, {}", found->reading.bound ? "< " : "", *found->reading.value,
                      reading.unit.empty() ? "" : " ", reading.unit, found->entry, day_text(found->made_s))};
}

}  // namespace wavicon
