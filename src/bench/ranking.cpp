// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "bench/history_parts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/history.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr std::size_t kMostDrawn = 24;

// What the best of such readings is called.
std::string superlative(const Reading& reading, Better better) {
  const auto begins = [&](const char* with) { return reading.name.rfind(with, 0) == 0; };
  if (better == Better::lower && (begins("noise") || begins("gap_noise") || begins("residual_noise")))
    return "quietest";
  if (better == Better::lower && begins("latency")) return "shortest";
  return "best";
}

std::string place_word(std::size_t place) {
  constexpr std::array kWords = {"",        "first",  "second", "third", "fourth",   "fifth",  "sixth",
                                 "seventh", "eighth", "ninth",  "tenth", "eleventh", "twelfth"};
  if (place < kWords.size()) return kWords[place];
  const std::size_t last = place % 100 / 10 == 1 ? 0 : place % 10;
  return fmt::format("{}{}", place, last == 1 ? "st" : last == 2 ? "nd" : last == 3 ? "rd" : "th");
}

Better direction_of(const Reading& reading, std::optional<Better> asked) {
  if (asked) return *asked;
  const Better better = reading.entry == nullptr ? Better::neither : reading.entry->better;
  if (better != Better::neither) return better;
  throw Error(
      ErrorCode::bad_argument,
      fmt::format("{} has no better and worse; --lowest, --highest or --nearest-zero ranks it all the "
                  "same",
                  reading.name));
}

class Ranking {
 public:
  Ranking(const Logbook& logbook, Better better, Comparable comparable)
      : logbook_(logbook), better_(better), all_(std::move(comparable.readings)) {
    latest_ = std::max_element(all_.begin(), all_.end(), [](const KeptReading& a, const KeptReading& b) {
                return std::pair(a.made_s, a.entry) < std::pair(b.made_s, b.entry);
              })->entry;
    std::stable_sort(all_.begin(), all_.end(), [&](const KeptReading& a, const KeptReading& b) {
      if (unplaced(a) != unplaced(b)) return unplaced(b);
      return worse(a, b) < 0;
    });
  }

  [[nodiscard]] std::size_t size() const { return all_.size(); }
  [[nodiscard]] const std::vector<KeptReading>& all() const { return all_; }
  [[nodiscard]] std::size_t latest() const {
    return static_cast<std::size_t>(
        std::find_if(all_.begin(), all_.end(), [&](const KeptReading& one) { return one.entry == latest_; }) -
        all_.begin());
  }
  // An upper bound of what should be high proves nothing.
  [[nodiscard]] bool unplaced(const KeptReading& one) const {
    return one.reading.bound && better_ == Better::higher;
  }
  [[nodiscard]] std::size_t place(std::size_t at) const {
    std::size_t place = 1;
    for (std::size_t i = 0; i < at; ++i) place += surely_better(all_[i], all_[at]) ? 1 : 0;
    return place;
  }
  [[nodiscard]] std::vector<std::size_t> as_good_as(std::size_t at) const {
    std::vector<std::size_t> others;
    const std::size_t own = place(at);
    for (std::size_t i = at;
         i-- > 0 && worse(all_[at], all_[i]) <= 4 * both(all_[at].reading, all_[i].reading);)
      if (place(i) == own) others.push_back(i);
    for (std::size_t i = at + 1; i < all_.size() && place(i) == own; ++i) others.push_back(i);
    return others;
  }
  [[nodiscard]] LogbookEntry entry(std::size_t at) const {
    return logbook_.entries({.ids = {all_[at].entry}}).front();
  }

 private:
  [[nodiscard]] double worse(const KeptReading& a, const KeptReading& b) const {
    return worse_by(better_, *a.reading.value, *b.reading.value);
  }
  // A bound counts as the worst that it allows.
  [[nodiscard]] bool surely_better(const KeptReading& a, const KeptReading& b) const {
    return worse(b, a) > both(a.reading, b.reading);
  }

  const Logbook& logbook_;
  Better better_;
  std::vector<KeptReading> all_;
  std::int64_t latest_ = 0;
};

PageTable places_table(const Logbook& logbook, const Ranking& ranking, std::size_t most,
                       std::vector<LogbookEntry>& shown) {
  PageTable table{.key = "places",
                  .columns = {{"place", "place", true},
                              {"name", "name"},
                              {"value", ranking.all().front().reading.name, true},
                              {"when", "when"},
                              {"entry", "entry", true},
                              {"latest", ""}}};
  const std::size_t latest = ranking.latest();
  const auto is_shown = [&](std::size_t i) { return most == 0 || i < most || i == latest; };
  std::vector<std::int64_t> ids;
  for (std::size_t i = 0; i < ranking.size(); ++i)
    if (is_shown(i)) ids.push_back(ranking.all()[i].entry);
  const auto entries = entries_of(logbook, ids);
  for (std::size_t i = 0; i < ranking.size(); ++i) {
    if (!is_shown(i)) continue;
    shown.push_back(entries.at(ranking.all()[i].entry));
    const LogbookEntry& entry = shown.back();
    const KeptReading& one = ranking.all()[i];
    table.rows.push_back({ranking.unplaced(one) ? "-" : std::to_string(ranking.place(i)), name_of(entry),
                          one.reading, day_text(entry.made_s), std::to_string(entry.id),
                          i == latest ? "the latest" : ""});
  }
  return table;
}

std::vector<PageCell> place_sentence(const Ranking& ranking, Better better) {
  const std::size_t at = ranking.latest();
  const Reading& reading = ranking.all()[at].reading;
  const std::string name = name_of(ranking.entry(at));
  if (ranking.size() == 1) return {fmt::format("{} is the only one: {} ", name, words_of(reading)), reading};
  if (ranking.unplaced(ranking.all()[at]))
    return {name + " cannot be placed: at most ", reading, " " + words_of(reading)};
  const std::size_t place = ranking.place(at);
  const auto others = ranking.as_good_as(at);
  const std::string which =
      place == 1 ? superlative(reading, better) : place_word(place) + " " + superlative(reading, better);
  const std::string told_from = others.empty() ? ""
                                : others.size() == 1
                                    ? ", and cannot be told from " + name_of(ranking.entry(others.front()))
                                    : ", and cannot be told from " + count_word(others.size()) + " others";
  return {fmt::format("{} is the {} of {}{}: ", name, which, count_word(ranking.size()), told_from), reading,
          " " + words_of(reading)};
}

// A row for each place, with its uncertainty; the latest stands out.
void draw(const Ranking& ranking, const std::vector<LogbookEntry>& shown, History& history) {
  const Reading& first = ranking.all().front().reading;
  Sheet sheet{.measurement = "logbook", .capture = {.channels = 1}};
  Curve value{"value", std::nullopt, "", first.unit, {}, {}},
      uncertainty{"uncertainty", std::nullopt, "", "", {}, {}};
  const std::size_t latest = ranking.latest();
  std::size_t row = 0;
  for (std::size_t i = 0; i < ranking.size() && row < std::min(shown.size(), kMostDrawn); ++i) {
    if (ranking.all()[i].entry != shown[row].id) continue;
    const Reading& reading = ranking.all()[i].reading;
    const auto at = static_cast<double>(row + 1);
    value.x.push_back(at);
    value.y.push_back(*reading.value);
    uncertainty.x.push_back(at);
    uncertainty.y.push_back(reading.uncertainty.value_or(0));
    sheet.labels.push_back({fmt::format("{}   {}", name_of(shown[row]), ranking.place(i)), at, at});
    if (i == latest) history.picture.style.marks.push_back({0, at, *reading.value, ""});
    ++row;
  }
  sheet.curves = {std::move(value), std::move(uncertainty)};
  history.drawn.push_back(std::move(sheet));
  history.picture.kind = PictureKind::rows;
  history.picture.style.title = "best first, with places; bars: uncertainty (k = 2)";
  history.picture.style.x_title = first.unit.empty() ? words_of(first) : words_of(first) + ", " + first.unit;
}

}  // namespace

History ranking(const Logbook& logbook, const std::string& reading, const RankOptions& options) {
  const auto readings = readings_or_fail(logbook, reading, options.filter);
  const Better better = direction_of(readings.back().reading, options.better);
  auto groups = grouped(readings, options.channel, better);
  History history;
  Page& page = history.page;
  page.under = groups.front().readings.front().reading.conditions;
  const std::vector<Comparable> apart(std::make_move_iterator(groups.begin() + 1),
                                      std::make_move_iterator(groups.end()));
  const Ranking ranking(logbook, better, std::move(groups.front()));
  std::vector<LogbookEntry> shown;
  page.answer.push_back(place_sentence(ranking, better));
  page.tables.push_back(places_table(logbook, ranking, options.most, shown));
  if (page.tables.front().rows.size() < ranking.size())
    remark(page, fmt::format("{} of {} are shown; --most 0 shows all", page.tables.front().rows.size(),
                             ranking.size()));
  PageTable table{.key = "apart",
                  .title = "Under other conditions, not ranked with them:",
                  .columns = {{"name", "name"},
                              {"value", reading, true},
                              {"when", "when"},
                              {"entry", "entry", true},
                              {"differs", "what differs"}}};
  std::size_t left_out = 0;
  for (const Comparable& group : apart)
    for (const KeptReading& one : group.readings) {
      if (options.most > 0 && table.rows.size() >= options.most) {
        ++left_out;
        continue;
      }
      const LogbookEntry entry = logbook.entries({.ids = {one.entry}}).front();
      table.rows.push_back(
          {name_of(entry), one.reading, day_text(entry.made_s), std::to_string(entry.id), group.apart});
    }
  if (left_out > 0) remark(page, fmt::format("{} more under other conditions are not shown", left_out));
  page.tables.push_back(std::move(table));
  remark(page, arithmetic_remark(shown));
  draw(ranking, shown, history);
  return history;
}

}  // namespace wavicon
