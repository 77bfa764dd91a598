// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "bench/cell_tags.hpp"
#include "bench/history_parts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/bench/run.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr std::size_t kMostReadings = 4;  // columns of a matrix beside the rows' values
constexpr std::size_t kMostNamed = 3;
constexpr std::size_t kMostWarnings = 20;

bool has_sheets(const CellResult& result) { return result.state != CellResult::State::failed; }

// The worse of all channels, or the first.
const Reading* deciding(const CellResult& result, const std::string& measurement, const std::string& name) {
  const Reading* worst = nullptr;
  for (const Sheet& sheet : result.sheets) {
    if (sheet.measurement != measurement) continue;
    for (const Reading& reading : sheet.readings) {
      if (reading.name != name || (!reading.value && reading.text.empty())) continue;
      const Better better = reading.entry == nullptr ? Better::neither : reading.entry->better;
      if (worst == nullptr ||
          (reading.value && worst->value && worse_by(better, *reading.value, *worst->value) > 0))
        worst = &reading;
    }
  }
  return worst;
}

// The readings that tell cells apart: those of the headline, then those that decide, as far as any cell has
// them.
std::vector<std::string> columns_of(const MeasurementDescriptor& measurement,
                                    const std::vector<CellResult>& results) {
  std::vector<std::string> names;
  for (const auto* list : {&measurement.headline, &measurement.deciding})
    for (const std::string& name : *list) {
      if (names.size() == kMostReadings || name.find("{}") != std::string::npos ||
          std::find(names.begin(), names.end(), name) != names.end())
        continue;
      if (std::any_of(results.begin(), results.end(), [&, &wanted = name](const CellResult& result) {
            return deciding(result, measurement.name, wanted) != nullptr;
          }))
        names.push_back(name);
    }
  return names;
}

std::vector<PageColumn> value_columns(const Plan& plan) {
  std::vector<PageColumn> columns;
  for (const PlanRow& row : plan.rows) columns.push_back({row.name, row.name, true});
  if (columns.empty()) columns.push_back({"cell", "cell"});
  return columns;
}
std::vector<PageCell> value_cells(const Cell& cell) {
  std::vector<PageCell> cells;
  for (const auto& [name, value] : cell.values) cells.emplace_back(value);
  if (cells.empty()) cells.emplace_back(std::string("all"));
  return cells;
}

void add_matrix(const Plan& plan, const std::vector<CellResult>& results, const std::string& name,
                Page& page) {
  const MeasurementDescriptor& measurement = *find_measurement(measurements(), name);
  PageTable table{.key = name, .title = plan.measures.size() > 1 ? name : "", .columns = value_columns(plan)};
  const auto readings = columns_of(measurement, results);
  if (readings.empty()) {
    if (std::any_of(results.begin(), results.end(), has_sheets))
      remark(page, fmt::format("{}: no cell gives a figure; --sheet FILE says why, 'findings'", name));
    return;
  }
  for (const std::string& reading : readings) table.columns.push_back({reading, reading, true});
  for (const CellResult& result : results) {
    if (!has_sheets(result)) continue;
    auto row = value_cells(result.cell);
    for (const std::string& reading : readings) {
      const Reading* found = deciding(result, name, reading);
      row.push_back(found == nullptr ? PageCell(std::string()) : PageCell(*found));
    }
    table.rows.push_back(std::move(row));
  }
  page.tables.push_back(std::move(table));
}

// What sheets warn of: a figure beside it may not be what it seems.
PageTable warnings_of(const std::vector<CellResult>& results) {
  PageTable table{.key = "warnings",
                  .title = "Warnings:",
                  .columns = {{"cell", "cell"}, {"measurement", "measurement"}, {"warning", "warning"}}};
  for (const CellResult& result : results)
    for (const Sheet& sheet : result.sheets)
      for (const Finding& finding : sheet.findings)
        if (finding.severity != Severity::note && table.rows.size() < kMostWarnings)
          table.rows.push_back({name_of(result.cell), sheet.measurement, finding.text});
  return table;
}

std::string escaped(const std::string& from) {
  std::string text;
  for (const char c : printable(from)) {
    switch (c) {
      case '&':
        text += "&amp;";
        break;
      case '<':
        text += "&lt;";
        break;
      case '>':
        text += "&gt;";
        break;
      case '"':
        text += "&quot;";
        break;
      default:
        text += c;
    }
  }
  return text;
}

std::string told(const LimitResult& result) {
  const std::string unit = result.unit.empty() ? "" : " " + result.unit;
  return fmt::format("{}{}: {}", result.limit,
                     result.channel ? fmt::format(", channel {}", *result.channel + 1) : "",
                     result.value ? fmt::format("{:.6g}{}", *result.value, unit) : "no value");
}

}  // namespace

std::vector<CellLimit> check_limits(const Plan& plan, const std::vector<CellResult>& results,
                                    const Logbook* logbook) {
  std::vector<CellLimit> all;
  for (std::size_t i = 0; i < results.size(); ++i) {
    if (!has_sheets(results[i])) continue;
    for (const PlanLimit& limit : plan.limits) {
      const auto& values = results[i].cell.values;
      if (!std::all_of(limit.where.begin(), limit.where.end(), [&](const auto& value) {
            return std::find(values.begin(), values.end(), value) != values.end();
          }))
        continue;
      const auto undecided = [&](const std::string& missing) {
        all.push_back({i,
                       {.limit = limit.limit.text,
                        .outcome = LimitResult::Outcome::undecided,
                        .file = name_of(results[i].cell)},
                       missing});
      };
      PastValues past;
      if (logbook != nullptr)
        past = [&](const Limit& own, const Sheet& sheet, const Reading& reading) {
          return past_value(
              *logbook,
              {.tags = tags_of(plan, results[i].cell), .without = {{kCellTag, results[i].known_by}}}, own,
              sheet, reading);
        };
      bool any = false;
      for (const Sheet& sheet : results[i].sheets) {
        if (std::none_of(sheet.readings.begin(), sheet.readings.end(),
                         [&](const Reading& reading) { return reading.name == limit.limit.name; }))
          continue;
        any = true;
        try {
          for (LimitResult& result : check_limit(limit.limit, sheet, past))
            all.push_back({i, std::move(result), ""});
        } catch (const Error& error) {
          if (error.code() != ErrorCode::bad_input) throw;
          undecided(error.what());
        }
      }
      // What was not read keeps nothing.
      if (!any) undecided("");
    }
  }
  return all;
}

Page bench_page(const Plan& plan, const std::vector<CellResult>& results,
                const std::vector<CellLimit>& limits) {
  const auto count = [&](CellResult::State state) {
    return static_cast<std::size_t>(
        std::count_if(results.begin(), results.end(), [&](const CellResult& r) { return r.state == state; }));
  };
  const std::size_t known = count(CellResult::State::known), failed = count(CellResult::State::failed);
  std::vector<const CellLimit*> broken;
  for (const CellLimit& limit : limits)
    if (limit.result.outcome != LimitResult::Outcome::kept) broken.push_back(&limit);
  Page page;
  std::string answer =
      fmt::format("{}: {} cell{}", plan.name, results.size(), results.size() == 1 ? "" : "s");
  if (known > 0) answer += fmt::format(", {} of them known from before", known);
  answer += failed == 0 ? "" : fmt::format("; {} failed", failed);
  if (!limits.empty())
    answer += broken.empty() ? fmt::format("; all {} limits are kept", limits.size())
                             : fmt::format("; {} of {} limits are not kept: ", broken.size(), limits.size());
  std::vector<std::string> named;
  for (const CellLimit* limit : broken) {
    std::string one = fmt::format("{} at {}", limit->result.limit, name_of(results[limit->cell].cell));
    if (std::find(named.begin(), named.end(), one) == named.end()) named.push_back(std::move(one));
  }
  for (std::size_t i = 0; i < std::min(kMostNamed, named.size()); ++i)
    answer += fmt::format("{}{}", i == 0 ? "" : ", ", named[i]);
  if (named.size() > kMostNamed) answer += ", …";
  page.answer.push_back({answer});
  PageTable reasons{.key = "failed", .title = "Failed:", .columns = {{"cell", "cell"}, {"reason", "reason"}}};
  for (const CellResult& result : results)
    if (!has_sheets(result)) reasons.rows.push_back({name_of(result.cell), result.reason});
  PageTable not_kept{
      .key = "not_kept",
      .title = "Not kept:",
      .columns = {
          {"cell", "cell"}, {"limit", "limit"}, {"channel", "channel", true}, {"value", "value", true}}};
  for (const CellLimit* limit : broken) {
    // Where a bound cannot decide it counts as not kept.
    const Reading value{.value = limit->result.value,
                        .unit = limit->result.unit,
                        .bound = limit->result.outcome == LimitResult::Outcome::undecided,
                        .entry = limit->result.entry};
    not_kept.rows.push_back({name_of(results[limit->cell].cell), limit->result.limit,
                             limit->result.channel ? std::to_string(*limit->result.channel + 1) : "",
                             value.value ? PageCell(value) : PageCell(std::string("no value"))});
  }
  for (const CellLimit* limit : broken) remark(page, limit->missing);
  page.tables.push_back(std::move(not_kept));
  page.tables.push_back(std::move(reasons));
  page.tables.push_back(warnings_of(results));
  if (page.tables.back().rows.size() == kMostWarnings)
    remark(page, "more warnings than these may be there; --sheet FILE holds all");
  std::vector<std::string> seen;
  for (const PlanMeasure& measure : plan.measures) {
    if (std::find(seen.begin(), seen.end(), measure.name) != seen.end()) continue;
    seen.push_back(measure.name);
    add_matrix(plan, results, measure.name, page);
  }
  return page;
}

std::string bench_junit(const Plan& plan, const std::vector<CellResult>& results,
                        const std::vector<CellLimit>& limits) {
  std::string cases;
  std::size_t count = 0, failures = 0, errors = 0;
  for (const CellResult& result : results) {
    ++count;
    cases += fmt::format("    <testcase classname=\"{}\" name=\"{}\" time=\"{:.3f}\"", escaped(plan.name),
                         escaped(name_of(result.cell)), result.seconds);
    if (has_sheets(result)) {
      cases += "/>\n";
    } else {
      ++errors;
      cases += fmt::format(">\n      <error message=\"{}\"/>\n    </testcase>\n", escaped(result.reason));
    }
  }
  for (const CellLimit& limit : limits) {
    ++count;
    const LimitResult& result = limit.result;
    cases += fmt::format("    <testcase classname=\"{}\" name=\"{}, {}{}\"", escaped(plan.name),
                         escaped(name_of(results[limit.cell].cell)), escaped(result.limit),
                         result.channel ? fmt::format(", channel {}", *result.channel + 1) : "");
    if (result.outcome == LimitResult::Outcome::kept) {
      cases += "/>\n";
    } else {
      ++failures;
      cases += fmt::format(">\n      <failure message=\"{}\"/>\n    </testcase>\n", escaped(told(result)));
    }
  }
  return fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites>\n  <testsuite name=\"{}\" tests=\"{}\" "
      "failures=\"{}\" errors=\"{}\">\n{}  </testsuite>\n</testsuites>\n",
      escaped(plan.name), count, failures, errors, cases);
}

}  // namespace wavicon
