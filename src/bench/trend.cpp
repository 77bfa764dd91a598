// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "bench/history_parts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/history.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr double kOfUsualSteps = 3;  // of the middle step: what is larger is a jump
constexpr std::size_t kMostNames = 4;

bool changed(const FigureChange& change) { return std::abs(change.value) > change.uncertainty; }

// The step from one entry to the next that stands out of all others.
std::optional<std::size_t> jump_of(const std::vector<KeptReading>& over_time) {
  if (over_time.size() < 3) return std::nullopt;
  std::vector<double> steps;
  for (std::size_t i = 1; i < over_time.size(); ++i)
    steps.push_back(std::abs(*over_time[i].reading.value - *over_time[i - 1].reading.value));
  const auto most = static_cast<std::size_t>(std::max_element(steps.begin(), steps.end()) - steps.begin());
  if (!changed(change_between(over_time[most].reading, over_time[most + 1].reading))) return std::nullopt;
  std::vector<double> others = steps;
  others.erase(others.begin() + static_cast<std::ptrdiff_t>(most));
  std::nth_element(others.begin(), others.begin() + static_cast<std::ptrdiff_t>(others.size() / 2),
                   others.end());
  return steps[most] > kOfUsualSteps * others[others.size() / 2] ? std::optional(most) : std::nullopt;
}

std::vector<PageCell> change_sentence(const std::vector<KeptReading>& over_time) {
  const Reading &first = over_time.front().reading, &last = over_time.back().reading;
  const std::string words = words_of(last), since = day_text(over_time.front().made_s);
  if (over_time.size() == 1) return {fmt::format("{}: one entry alone, of {}: ", words, since), last};
  if (first.bound || last.bound)
    return {fmt::format("{} since {}: from ", words, since), first, std::string(" to "), last,
            std::string(": how far it changed cannot be said of a bound")};
  const FigureChange change = change_between(first, last);
  if (!changed(change)) {
    if (change.uncertainty == 0) return {fmt::format("{}: unchanged since {}, ", words, since), last};
    return {fmt::format("{}: unchanged within {:.2g}{}{} since {}, ", words, change.uncertainty,
                        change.unit.empty() ? "" : " ", change.unit, since),
            last};
  }
  std::vector<PageCell> sentence = {words + ": ", change, fmt::format(" since {}, now ", since), last};
  if (const auto jump = jump_of(over_time)) {
    const KeptReading &before = over_time[*jump], &after = over_time[*jump + 1];
    const bool one_day = day_text(before.made_s) == day_text(after.made_s);
    sentence.emplace_back(std::string("; it jumped by "));
    sentence.emplace_back(change_between(before.reading, after.reading));
    sentence.emplace_back(
        one_day ? fmt::format(" between the entries {} and {}", before.entry, after.entry)
                : fmt::format(" between {} and {}", day_text(before.made_s), day_text(after.made_s)));
  }
  return sentence;
}

Sheet drawn(const std::vector<KeptReading>& over_time) {
  const Reading& last = over_time.back().reading;
  Sheet sheet{.measurement = "logbook", .capture = {.channels = 1}};
  Curve value{"value", std::nullopt, "s", last.unit, {}, {}},
      uncertainty{"uncertainty", std::nullopt, "s", "", {}, {}};
  for (const KeptReading& one : over_time) {
    for (Curve* curve : {&value, &uncertainty}) curve->x.push_back(static_cast<double>(one.made_s));
    value.y.push_back(*one.reading.value);
    uncertainty.y.push_back(one.reading.uncertainty.value_or(0));
  }
  sheet.curves = {std::move(value), std::move(uncertainty)};
  sheet.labels = {{words_of(last), 0, 0}};
  return sheet;
}

}  // namespace

History trend(const Logbook& logbook, const std::vector<std::string>& readings, const TrendOptions& options) {
  History history;
  Page& page = history.page;
  std::vector<LogbookEntry> shown;
  std::set<std::string> names;
  for (const std::string& name : readings) {
    const auto kept = readings_or_fail(logbook, name, options.filter);
    const ReadingEntry* entry = kept.back().reading.entry;
    const auto groups = grouped(kept, options.channel, entry == nullptr ? Better::neither : entry->better);
    const auto& over_time = groups.front().readings;
    page.answer.push_back(change_sentence(over_time));
    if (readings.size() == 1) page.under = over_time.back().reading.conditions;
    PageTable table{.key = name,
                    .title = readings.size() > 1 ? words_of(over_time.back().reading) : "",
                    .columns = {{"when", "when"},
                                {"name", "name"},
                                {"value", name, true},
                                {"change", "since the first", true},
                                {"entry", "entry", true}}};
    // The first, and the latest.
    const std::size_t most = options.most == 0 ? over_time.size() : options.most,
                      left_out = over_time.size() - std::min(over_time.size(), most);
    std::vector<std::int64_t> ids;
    for (std::size_t i = 0; i < over_time.size(); ++i)
      if (i == 0 || i > left_out) ids.push_back(over_time[i].entry);
    const auto entries = entries_of(logbook, ids);
    const Reading& first = over_time.front().reading;
    for (std::size_t i = 0; i < over_time.size(); ++i) {
      const KeptReading& one = over_time[i];
      const auto entry_of_one = entries.find(one.entry);
      if (entry_of_one == entries.end() || (i > 0 && i <= left_out)) continue;
      shown.push_back(entry_of_one->second);
      names.insert(name_of(shown.back()));
      const bool tells = i > 0 && !one.reading.bound && !first.bound;
      table.rows.push_back({day_text(one.made_s), name_of(shown.back()), one.reading,
                            tells ? PageCell(change_between(first, one.reading)) : PageCell(std::string()),
                            std::to_string(one.entry)});
    }
    if (left_out > 0)
      remark(page, fmt::format("{}: the first and the latest {} of {} are shown; --most 0 shows all", name,
                               table.rows.size() - 1, over_time.size()));
    page.tables.push_back(std::move(table));
    std::size_t apart = 0;
    for (std::size_t i = 1; i < groups.size(); ++i) apart += groups[i].readings.size();
    if (apart > 0)
      remark(page, fmt::format("{}: {} under other conditions left out: {}", name,
                               apart == 1 ? "one entry" : count_word(apart) + " entries", groups[1].apart));
    history.drawn.push_back(drawn(over_time));
  }
  if (names.size() > 1) {
    std::string list;
    for (const std::string& name : names) {
      if (&name != &*names.begin()) list += ", ";
      list += name;
      if (std::count(list.begin(), list.end(), ',') >= static_cast<std::ptrdiff_t>(kMostNames)) break;
    }
    remark(page, fmt::format("these are {} things ({}): words, --tag and --label choose one of them",
                             count_word(names.size()), list));
  }
  remark(page, arithmetic_remark(shown));
  history.picture.kind = PictureKind::over_dates;
  history.picture.style.title = "bars: uncertainty (k = 2)";
  return history;
}

}  // namespace wavicon
