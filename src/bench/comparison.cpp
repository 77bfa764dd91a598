// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "bench/conditions.hpp"
#include "bench/history_parts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/bench/history.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr std::int64_t kDayS = 86400;
constexpr double kSameNumber = 1e-9;  // of figures without uncertainty: counts and settings
constexpr std::size_t kMostTold = 3;

using ByMeasurement = std::map<std::string, LogbookEntry>;

// The latest entry of each measurement that a text names.
ByMeasurement named(const Logbook& logbook, const std::string& what) {
  std::vector<LogbookEntry> entries;
  if (!what.empty() && what.size() < 19 && what.find_first_not_of("0123456789") == std::string::npos) {
    entries = logbook.entries({.ids = {std::stoll(what)}});
    if (entries.empty())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("logbook {}: there is no entry {}; 'wavicon logbook list' "
                              "shows them",
                              logbook.name(), what));
  } else {
    entries = logbook.entries({.label = what});
    if (entries.empty()) try {
        const std::int64_t day = parse_time(what);
        entries = logbook.entries({.since_s = day, .until_s = day + kDayS});
      } catch (const Error&) {
        throw Error(ErrorCode::bad_argument,
                    fmt::format("logbook {}: '{}' is no entry's number, label or day{}", logbook.name(), what,
                                name_hint(what, logbook.labels())));
      }
    if (entries.empty())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("logbook {}: nothing was measured on {}", logbook.name(), what));
  }
  ByMeasurement latest;
  for (const LogbookEntry& entry : entries) latest.insert_or_assign(entry.measurement, entry);
  return latest;
}

struct Difference {
  Reading a, b;
  FigureChange change;
  double size = 0;  // of the change, in uncertainties
  bool tells = true;
};

bool is_change(const Difference& d) { return d.size > 1; }

Difference difference_of(const Reading& a, const Reading& b) {
  Difference d{.a = a, .b = b};
  if (!a.text.empty() || !b.text.empty()) {
    d.size = a.text == b.text ? 0 : std::numeric_limits<double>::infinity();
    d.tells = false;
    return d;
  }
  if (!a.value || !b.value || a.bound || b.bound) {
    d.tells = false;
    // A bound that was a figure before: whether it changed is known where the figure lies above the bound.
    if (a.value && b.value && a.bound != b.bound) {
      const Reading &bound = a.bound ? a : b, &figure = a.bound ? b : a;
      if (*figure.value - figure.uncertainty.value_or(0) > *bound.value)
        d.size = std::numeric_limits<double>::infinity();
    }
    if (a.value.has_value() != b.value.has_value()) d.size = std::numeric_limits<double>::infinity();
    return d;
  }
  d.change = change_between(a, b);
  const double least = std::max(d.change.uncertainty, kSameNumber * std::abs(*a.value)),
               size = std::abs(d.change.value);
  d.size = least > 0 ? size / least : size == 0 ? 0 : std::numeric_limits<double>::infinity();
  return d;
}

std::string readings_text(std::size_t count) {
  return fmt::format("{} reading{}", count, count == 1 ? "" : "s");
}

std::string channel_of(const Reading& reading) {
  return reading.channel ? std::to_string(*reading.channel + 1) : "";
}

}  // namespace

History comparison(const Logbook& logbook, const std::string& a, const std::string& b, bool all) {
  const ByMeasurement from = named(logbook, a), to = named(logbook, b);
  History history;
  Page& page = history.page;
  std::vector<Difference> differences;
  std::vector<LogbookEntry> compared;
  std::size_t without = 0;
  std::string apart;
  for (const auto& [measurement, entry] : from) {
    const auto other = to.find(measurement);
    if (other == to.end()) continue;
    compared.push_back(entry);
    compared.push_back(other->second);
    std::vector<KeptReading> left = logbook.readings_of(other->second.id);
    for (const KeptReading& one : logbook.readings_of(entry.id)) {
      std::string why;
      const auto match = std::find_if(left.begin(), left.end(), [&](const KeptReading& candidate) {
        if (candidate.reading.name != one.reading.name || candidate.view != one.view) return false;
        const std::string differs = difference(candidate.reading.conditions, one.reading.conditions);
        if (why.empty()) why = differs;
        return differs.empty();
      });
      if (match == left.end()) {
        ++without;
        if (apart.empty()) apart = why;
        continue;
      }
      differences.push_back(difference_of(one.reading, match->reading));
      left.erase(match);
    }
    without += left.size();
  }
  if (compared.empty())
    throw Error(ErrorCode::bad_argument, fmt::format("'{}' and '{}' have no measurement in common", a, b));
  // Figures whose change is sure first, then what has no uncertainty: words, counts, what came and went; each
  // in the order of the sheets, which is the one that matters.
  std::stable_sort(differences.begin(), differences.end(), [](const Difference& x, const Difference& y) {
    const auto rank = [](const Difference& d) {
      return !is_change(d) ? 2 : d.tells && d.change.uncertainty > 0 ? 0 : 1;
    };
    return rank(x) < rank(y);
  });
  const auto changes =
      static_cast<std::size_t>(std::count_if(differences.begin(), differences.end(), is_change));
  const std::string name_a = name_of(compared[0]), name_b = name_of(compared[1]);
  std::vector<PageCell> sentence;
  if (changes == 0)
    sentence.emplace_back(
        fmt::format("Nothing changed beyond its uncertainty: {} readings of entry {} and {} "
                    "({} and {})",
                    differences.size(), compared[0].id, compared[1].id, day_text(compared[0].made_s),
                    day_text(compared[1].made_s)));
  else
    sentence.emplace_back(
        fmt::format("{} of {} readings changed beyond their uncertainty", changes, differences.size()));
  std::vector<std::string> told;
  for (const Difference& d : differences) {
    if (!is_change(d) || told.size() == kMostTold) break;
    if (std::find(told.begin(), told.end(), d.b.name) != told.end()) continue;
    sentence.emplace_back(std::string(told.empty() ? ": " : "; ") + words_of(d.b) + " ");
    if (d.tells)
      sentence.emplace_back(d.change);
    else
      sentence.emplace_back(d.b);
    told.push_back(d.b.name);
  }
  if (!told.empty() && told.size() < changes) sentence.emplace_back(std::string("; …"));
  page.answer.push_back(std::move(sentence));
  const auto heading = [&](const LogbookEntry& entry, const std::string& name) {
    constexpr std::size_t kLongest = 24;
    return fmt::format("{} ({})", name_a == name_b || name.size() > kLongest ? day_text(entry.made_s) : name,
                       entry.id);
  };
  PageTable table{.key = "readings",
                  .columns = {{"reading", "reading"},
                              {"channel", "channel", true},
                              {"a", heading(compared[0], name_a), true},
                              {"b", heading(compared[1], name_b), true},
                              {"change", "change", true}}};
  if (all) table.columns.push_back({"beyond", "beyond its uncertainty"});
  for (const Difference& d : differences) {
    if (!all && !is_change(d)) break;
    table.rows.push_back(
        {d.b.name, channel_of(d.b), d.a, d.b, d.tells ? PageCell(d.change) : PageCell(std::string())});
    if (all) table.rows.back().emplace_back(is_change(d) ? "yes" : "no");
  }
  page.tables.push_back(std::move(table));
  if (!all && changes < differences.size())
    remark(page,
           fmt::format("{} did not change; --all shows them", readings_text(differences.size() - changes)));
  if (without > 0)
    remark(page, fmt::format("{} without a counterpart{}", readings_text(without),
                             apart.empty() ? "" : " under the same conditions: " + apart));
  remark(page, arithmetic_remark(compared));
  // The largest changes as so many uncertainties.
  constexpr std::size_t kMostDrawn = 24;
  const bool several = std::any_of(differences.begin(), differences.end(),
                                   [](const Difference& d) { return d.b.channel.value_or(0) > 0; });
  Sheet sheet{.measurement = "logbook", .capture = {.channels = 1}};
  Curve sizes{"value", std::nullopt, "", "", {}, {}};
  for (const Difference& d : differences) {
    if (!d.tells || d.change.uncertainty <= 0 || sizes.x.size() == kMostDrawn) continue;
    sizes.x.push_back(static_cast<double>(sizes.x.size() + 1));
    sizes.y.push_back(d.change.value / d.change.uncertainty);
    sheet.labels.push_back(
        {several && d.b.channel ? fmt::format("{}, {}", d.b.name, *d.b.channel + 1) : d.b.name, 0, 0});
  }
  sheet.curves.push_back(std::move(sizes));
  history.drawn.push_back(std::move(sheet));
  history.picture.kind = PictureKind::rows;
  auto& style = history.picture.style;
  style.title =
      fmt::format("{} since {}; between the broken lines nothing is sure to have changed", name_b, name_a);
  style.x_title = "change, in uncertainties (k = 2)";
  style.lines = {{1, ""}, {-1, ""}};
  return history;
}

}  // namespace wavicon
