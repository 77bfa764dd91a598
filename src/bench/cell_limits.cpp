// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "bench/cell_tags.hpp"
#include "bench/history_parts.hpp"
#include "bench/plan_names.hpp"
#include "bench/result_parts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/bench/history.hpp"
#include "wavicon/bench/run.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

using Values = std::vector<std::pair<std::string, std::string>>;

bool holds(const Values& wanted, const Cell& cell) {
  return std::all_of(wanted.begin(), wanted.end(), [&](const auto& value) {
    return std::find(cell.values.begin(), cell.values.end(), value) != cell.values.end();
  });
}

// What is added in "other+0.1".
Added added_to_other(const Limit& limit) {
  const std::string text = limit.past.substr(std::string(kOther).size());
  if (const auto added = parse_added(text)) return *added;
  throw Error(ErrorCode::bad_input, fmt::format("limit '{}': '{}' is no number, nor +u", limit.text, text));
}

bool gives(const CellResult& result, const std::string& reading) {
  return std::any_of(result.run.measures.begin(), result.run.measures.end(),
                     [&](const PlanMeasure& measure) { return bench_detail::gives(measure, reading); });
}

class Limits {
 public:
  Limits(const Plan& plan, const std::vector<CellResult>& results, const Logbook* logbook)
      : plan_(plan), results_(results), logbook_(logbook) {
    for (std::size_t i = 0; i < results.size(); ++i)
      by_name_.emplace(kind_of(results[i]) + name_of(results[i].run.cell), i);
  }

  std::vector<CellLimit> check() {
    std::vector<CellLimit> all;
    for (std::size_t i = 0; i < results_.size(); ++i)
      for (const PlanLimit& limit : plan_.limits)
        if (has_sheets(results_[i]) && holds(limit.where, results_[i].run.cell) &&
            gives(results_[i], limit.limit.name))
          check(i, limit, all);
    return all;
  }

 private:
  // Cells stand beside cells, and comparisons beside such against the same.
  static std::string kind_of(const CellResult& result) {
    return result.run.others.empty() ? "" : "against " + name_of(result.run.others.front()) + ": ";
  }

  void check(std::size_t i, const PlanLimit& limit, std::vector<CellLimit>& all) {
    const CellResult& result = results_[i];
    const auto undecided = [&](const std::string& missing) {
      all.push_back(
          {i,
           {.limit = limit.limit.text, .outcome = LimitResult::Outcome::undecided, .file = name_of(result)},
           missing});
    };
    bool any = false;
    for (const Sheet& sheet : result.sheets) {
      if (std::none_of(sheet.readings.begin(), sheet.readings.end(),
                       [&](const Reading& reading) { return reading.name == limit.limit.name; }))
        continue;
      any = true;
      try {
        for (LimitResult& one : check_limit(limit.limit, sheet, past_of(result, limit)))
          all.push_back({i, std::move(one), ""});
      } catch (const Error& error) {
        if (error.code() != ErrorCode::bad_input) throw;
        undecided(error.what());
      }
    }
    // What was not read keeps nothing.
    if (!any && !limit.where_given) undecided("");
  }

  PastValues past_of(const CellResult& result, const PlanLimit& limit) {
    if (!limit.other.empty())
      return [&](const Limit& own, const Sheet& sheet, const Reading& reading) {
        return other_value(result, limit, own, sheet, reading);
      };
    if (logbook_ == nullptr) return {};
    return [&](const Limit& own, const Sheet& sheet, const Reading& reading) {
      return past_value(*logbook_,
                        {.tags = tags_of(plan_, result.run), .without = {{kCellTag, result.known_by}}}, own,
                        sheet, reading);
    };
  }

  PastValue other_value(const CellResult& result, const PlanLimit& limit, const Limit& own,
                        const Sheet& sheet, const Reading& reading) {
    Cell wanted = result.run.cell;
    for (auto& [name, value] : wanted.values)
      for (const auto& [changed, to] : limit.other)
        if (name == changed) value = to;
    const auto found = by_name_.find(kind_of(result) + name_of(wanted));
    const auto fail = [&](const char* why) {
      return Error(ErrorCode::bad_input, fmt::format("limit '{}': {} {}", own.text, name_of(wanted), why));
    };
    if (found == by_name_.end()) throw fail("is not among the cells of this run");
    const CellResult& other = results_[found->second];
    if (!has_sheets(other)) throw fail("failed");
    for (const Sheet& one : other.sheets)
      for (const Reading& candidate : one.readings)
        if (one.measurement == sheet.measurement && candidate.name == reading.name &&
            candidate.channel == reading.channel && candidate.value)
          return {*candidate.value + added_to(added_to_other(own), candidate, reading),
                  fmt::format("{}{:.6g}{}{} at {}", candidate.bound ? "< " : "", *candidate.value,
                              candidate.unit.empty() ? "" : " ", candidate.unit, name_of(wanted))};
    throw fail("gives no such figure");
  }

  const Plan& plan_;
  const std::vector<CellResult>& results_;
  const Logbook* logbook_;
  std::map<std::string, std::size_t> by_name_;
};

}  // namespace

std::vector<CellLimit> check_limits(const Plan& plan, const std::vector<CellResult>& results,
                                    const Logbook* logbook) {
  return Limits(plan, results, logbook).check();
}

std::vector<EnoughValue> enough_values(const Plan& plan, const std::vector<CellResult>& results,
                                       const std::vector<CellLimit>& limits, const std::string& name) {
  const PlanRow* row = find_row(plan, name);
  if (row == nullptr)
    throw Error(ErrorCode::bad_argument,
                fmt::format("enough: there is no row '{}'{}", name, name_hint(name, row_names(plan))));
  if (plan.limits.empty())
    throw Error(ErrorCode::bad_argument,
                "enough: the plan has no limits; [[limit]] keep = \"NAME<VALUE\" says what is enough");
  std::map<std::size_t, bool> kept;
  for (const CellLimit& limit : limits) {
    const auto [found, fresh] = kept.emplace(limit.cell, true);
    found->second = found->second && limit.result.outcome == LimitResult::Outcome::kept;
  }
  // Of each combination of the others: whether each value keeps all.
  std::vector<std::string> order;
  std::map<std::string, std::map<std::string, bool>> groups;
  for (std::size_t i = 0; i < results.size(); ++i) {
    if (results[i].run.together) continue;
    Cell others = results[i].run.cell;
    std::string value;
    std::erase_if(others.values, [&](const auto& one) {
      if (one.first != name) return false;
      value = one.second;
      return true;
    });
    const std::string key = others.values.empty() ? "" : name_of(others);
    if (groups.count(key) == 0) order.push_back(key);
    const bool failed = results[i].state == CellResult::State::failed;
    const auto own = kept.find(i);
    if (own == kept.end() && !failed) continue;
    const auto [found, fresh] = groups[key].emplace(value, true);
    found->second = found->second && !failed && own->second;
  }
  std::vector<EnoughValue> all;
  for (const std::string& key : order) {
    const auto& of = groups[key];
    if (of.empty()) continue;  // no limit holds for these
    EnoughValue enough{.others = key};
    // From the end: the first from which on all are kept.
    for (auto value = row->values.rbegin(); value != row->values.rend(); ++value) {
      const auto found = of.find(value->name);
      if (found == of.end()) continue;
      if (!found->second) break;
      enough.value = value->name;
    }
    all.push_back(std::move(enough));
  }
  return all;
}

}  // namespace wavicon
