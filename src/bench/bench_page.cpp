// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "bench/history_parts.hpp"
#include "bench/result_parts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/bench/examination.hpp"
#include "wavicon/bench/run.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr std::size_t kMostNamed = 3;
constexpr std::size_t kMostWarnings = 20;
constexpr std::size_t kMostExamined = 4;  // cells beside each other

using Sentence = std::vector<PageCell>;

std::vector<PageColumn> value_columns(const Plan& plan, bool against) {
  std::vector<PageColumn> columns;
  for (const PlanRow& row : plan.rows) columns.push_back({row.name, row.name, true});
  if (columns.empty()) columns.push_back({"cell", "cell"});
  if (against) columns.push_back({"against", "against"});
  return columns;
}

Sentence value_cells(const Plan& plan, const CellResult& result) {
  Sentence cells;
  for (const auto& [name, value] : result.run.cell.values)
    cells.emplace_back(result.run.together ? std::string("all") : value);
  if (plan.rows.empty()) cells.emplace_back(std::string("all"));
  if (result.run.others.empty() || result.run.together) return cells;
  const std::string name = name_of(result);
  cells.emplace_back(name.substr(name.find(" against ") + std::string(" against ").size()));
  return cells;
}

// What an examination found, a figure a row, cells beside each other.
PageTable examination_table(const PlanMeasure& measure, const std::vector<CellResult>& results,
                            const std::vector<std::string>& readings) {
  PageTable table{.key = measure.name, .title = measure.name, .columns = {{"reading", "reading"}}};
  std::vector<const CellResult*> shown;
  for (const CellResult& result : results)
    if (has_sheets(result) && is_of(result, measure) && shown.size() < kMostExamined)
      shown.push_back(&result);
  for (const CellResult* result : shown) {
    const std::string name = name_of(*result);
    table.columns.push_back({name, shown.size() == 1 && name == "all" ? "value" : name, true});
  }
  for (const std::string& reading : readings) {
    Sentence row = {reading};
    for (const CellResult* result : shown) {
      const Reading* found = deciding(*result, measure, reading);
      row.push_back(found == nullptr ? PageCell(std::string()) : PageCell(*found));
    }
    table.rows.push_back(std::move(row));
  }
  return table;
}

// Of many cells what stands out, and a few figures.
PageTable examinations_table(const Plan& plan, const PlanMeasure& measure,
                             const std::vector<CellResult>& results) {
  static constexpr const char* kFew[] = {"reported_samples", "tail_s", "load_512_percent"};
  PageTable table{.key = measure.name, .title = measure.name, .columns = value_columns(plan, false)};
  for (const char* name : kFew) table.columns.push_back({name, name, true});
  table.columns.push_back({"stands_out", "what stands out"});
  for (const CellResult& result : results) {
    if (!has_sheets(result) || !is_of(result, measure)) continue;
    Sentence row = value_cells(plan, result);
    std::string text;
    for (const Sheet& sheet : result.sheets)
      for (const Finding& finding : sheet.findings)
        if (sheet.measurement == measure.name && finding.code == FindingCode::result)
          text += (text.empty() ? "" : "; ") + finding.text;
    for (const char* name : kFew) {
      const Reading* found = deciding(result, measure, name);
      row.push_back(found == nullptr ? PageCell(std::string()) : PageCell(*found));
    }
    row.emplace_back(text);
    table.rows.push_back(std::move(row));
  }
  return table;
}

void add_matrix(const Plan& plan, const std::vector<CellResult>& results, const PlanMeasure& measure,
                Page& page) {
  const auto readings = columns_of(measure, results);
  if (readings.empty()) {
    if (std::any_of(results.begin(), results.end(),
                    [&](const CellResult& result) { return has_sheets(result) && is_of(result, measure); }))
      remark(page, fmt::format("{}: no cell gives a figure; the warnings say why", title_of(measure)));
    return;
  }
  if (measure.name == kExamination) {
    const auto count =
        static_cast<std::size_t>(std::count_if(results.begin(), results.end(), [&](const CellResult& result) {
          return has_sheets(result) && is_of(result, measure);
        }));
    page.tables.push_back(count > kMostExamined ? examinations_table(plan, measure, results)
                                                : examination_table(measure, results, readings));
    return;
  }
  PageTable table{.key = key_of(measure),
                  .title = plan.measures.size() > 1 || !measure.against.empty() ? title_of(measure) : "",
                  .columns = value_columns(plan, !measure.against.empty())};
  for (const std::string& reading : readings) table.columns.push_back({reading, reading, true});
  for (const CellResult& result : results) {
    if (!has_sheets(result) || !is_of(result, measure)) continue;
    auto row = value_cells(plan, result);
    for (const std::string& reading : readings) {
      const Reading* found = deciding(result, measure, reading);
      row.push_back(found == nullptr ? PageCell(std::string()) : PageCell(*found));
    }
    table.rows.push_back(std::move(row));
  }
  page.tables.push_back(std::move(table));
}

// Warnings of the sheets, those that several cells share once.
PageTable warnings_of(const std::vector<CellResult>& results) {
  PageTable table{.key = "warnings",
                  .title = "Warnings:",
                  .columns = {{"cell", "cell"}, {"measurement", "measurement"}, {"warning", "warning"}}};
  std::map<std::pair<std::string, std::string>, std::vector<std::string>> cells;
  std::vector<std::pair<std::string, std::string>> order;
  for (const CellResult& result : results)
    for (const Sheet& sheet : result.sheets)
      for (const Finding& finding : sheet.findings) {
        if (finding.severity == Severity::note) continue;
        auto& of = cells[{sheet.measurement, finding.text}];
        if (of.empty()) order.emplace_back(sheet.measurement, finding.text);
        if (of.empty() || of.back() != name_of(result)) of.push_back(name_of(result));
      }
  for (const auto& warning : order) {
    if (table.rows.size() == kMostWarnings) break;
    const auto& of = cells[warning];
    table.rows.push_back(
        {of.size() == 1 ? of.front() : fmt::format("{} and {} more", of.front(), of.size() - 1),
         warning.first, warning.second});
  }
  return table;
}

// What a measurement that answers for all of it says, or the one cell there is.
Sentence said_by(const CellResult& result, const PlanMeasure& measure) {
  for (const Sheet& sheet : result.sheets)
    if (is_of(sheet, measure))
      for (const Finding& finding : sheet.findings)
        if (finding.code == FindingCode::result) return {title_of(measure) + ": " + finding.text};
  return {};
}

// What stands out, each once.
Sentence examined(const PlanMeasure& measure, const std::vector<CellResult>& results) {
  std::vector<std::pair<std::string, std::string>> told;  // sentences, and the first cell of each
  std::size_t cells = 0;
  for (const CellResult& result : results) {
    if (!has_sheets(result) || !is_of(result, measure)) continue;
    ++cells;
    for (const Sheet& sheet : result.sheets)
      for (const Finding& finding : sheet.findings)
        if (sheet.measurement == measure.name && finding.code == FindingCode::result &&
            std::none_of(told.begin(), told.end(),
                         [&](const auto& one) { return one.first == finding.text; }))
          told.emplace_back(finding.text, name_of(result));
  }
  if (told.empty()) return {};
  std::string text = measure.name + ": " + told.front().first;
  if (told.size() > 1)
    text += fmt::format(" ({}; {} of {} cells say otherwise)", told.front().second, told.size() - 1, cells);
  return {text};
}

// Half of the last digit that is shown.
double shown_step(const Reading& reading) {
  return reading.entry == nullptr ? 0 : 0.5 * std::pow(10.0, -reading.entry->digits);
}

// From the lowest to the highest of all cells.
Sentence span_of(const PlanMeasure& measure, const std::vector<CellResult>& results) {
  const auto readings = first_shown(measure, results);
  std::size_t of_it = 0;
  Sentence said;
  for (const CellResult& result : results) {
    if (!has_sheets(result) || !is_of(result, measure)) continue;
    ++of_it;
    if (Sentence own = said_by(result, measure); said.empty() && !own.empty()) said = std::move(own);
  }
  if (measure.name == kExamination) return examined(measure, results);
  if (of_it == 1 && !said.empty()) return said;
  for (const std::string& name : readings) {
    const Reading *low = nullptr, *high = nullptr;
    const CellResult *at_low = nullptr, *at_high = nullptr;
    std::size_t with = 0;
    for (const CellResult& result : results) {
      const Reading* one = is_of(result, measure) ? deciding(result, measure, name) : nullptr;
      if (one == nullptr || !one->value) continue;
      ++with;
      if (low == nullptr || *one->value < *low->value) low = one, at_low = &result;
      if (high == nullptr || *one->value > *high->value) high = one, at_high = &result;
    }
    if (low == nullptr) continue;
    const std::string words = title_of(measure) + ": " + words_of(*low) + " ";
    if (of_it == 1) return {words, *low};
    if (with == 1) return {words, *low, " (" + name_of(*at_low) + ")"};
    if (*high->value - *low->value <= std::max(both(*low, *high), shown_step(*low)))
      return {words, *low,
              with == of_it ? fmt::format(", the same in all {}", of_it)
                            : fmt::format(", the same in the {} of {} that give it", with, of_it)};
    return {words, *low, " (" + name_of(*at_low) + ") to ", *high, " (" + name_of(*at_high) + ")"};
  }
  return {};
}

std::string enough_sentence(const Plan& plan, const std::vector<CellResult>& results,
                            const std::vector<CellLimit>& limits) {
  std::string what;
  for (const PlanLimit& limit : plan.limits) what += (what.empty() ? "" : " and ") + limit.limit.text;
  std::string text = plan.name + ": ";
  std::size_t told = 0;
  const auto all = enough_values(plan, results, limits, plan.enough);
  for (const EnoughValue& one : all) {
    if (told++ > 0) text += "; ";
    const std::string at = one.others.empty() ? "" : "at " + one.others + " ";
    text += one.value ? fmt::format("{}{} {} is the first that keeps {}", at, plan.enough, *one.value,
                                    told == 1                ? what
                                    : plan.limits.size() > 1 ? "them"
                                                             : "it")
                      : fmt::format("{}no {} keeps {}", at, plan.enough,
                                    told == 1                ? what
                                    : plan.limits.size() > 1 ? "them"
                                                             : "it");
  }
  if (all.empty()) text += fmt::format("nothing says which {} is enough", plan.enough);
  return text;
}

std::string verdict(const Plan& plan, const std::vector<CellResult>& results,
                    const std::vector<CellLimit>& limits, const std::vector<const CellLimit*>& broken) {
  const auto count = [&](CellResult::State state) {
    return static_cast<std::size_t>(
        std::count_if(results.begin(), results.end(), [&](const CellResult& r) { return r.state == state; }));
  };
  const std::size_t known = count(CellResult::State::known), failed = count(CellResult::State::failed);
  const auto many = [&](auto&& is) {
    return static_cast<std::size_t>(std::count_if(results.begin(), results.end(), is));
  };
  const std::size_t whole = many([](const CellResult&r) { return r.run.together; }),
                    compared =
                        many([](const CellResult&r) { return !r.run.together && !r.run.others.empty(); }),
                    cells = results.size() - compared - whole;
  std::string text = plan.name + ": ";
  if (cells > 0) text += fmt::format("{} cell{}", cells, cells == 1 ? "" : "s");
  if (compared > 0)
    text += fmt::format("{}{} comparison{}", cells > 0 ? ", " : "", compared, compared == 1 ? "" : "s");
  if (cells + compared == 0) text += "all of them together";
  if (known > 0) text += fmt::format(", {} of them known from before", known);
  text += failed == 0 ? "" : fmt::format("; {} failed", failed);
  if (!limits.empty())
    text += broken.empty() ? fmt::format("; all {} limits are kept", limits.size())
                           : fmt::format("; {} of {} limits are not kept: ", broken.size(), limits.size());
  std::vector<std::string> named;
  for (const CellLimit* limit : broken) {
    const std::string at = name_of(results[limit->cell]);
    std::string one = limit->result.limit + (at == "all" ? "" : " at " + at);
    if (std::find(named.begin(), named.end(), one) == named.end()) named.push_back(std::move(one));
  }
  for (std::size_t i = 0; i < std::min(kMostNamed, named.size()); ++i)
    text += fmt::format("{}{}", i == 0 ? "" : ", ", named[i]);
  if (named.size() > kMostNamed) text += ", …";
  return text;
}

PageTable not_kept_table(const std::vector<CellResult>& results,
                         const std::vector<const CellLimit*>& broken) {
  PageTable table{.key = "not_kept",
                  .title = "Not kept:",
                  .columns = {{"cell", "cell"},
                              {"limit", "limit"},
                              {"channel", "channel", true},
                              {"value", "value", true},
                              {"than", "than"}}};
  for (const CellLimit* limit : broken) {
    // Where a bound cannot decide it counts as not kept.
    const Reading value{.value = limit->result.value,
                        .unit = limit->result.unit,
                        .bound = limit->result.outcome == LimitResult::Outcome::undecided,
                        .entry = limit->result.entry};
    table.rows.push_back({name_of(results[limit->cell]), limit->result.limit,
                          limit->result.channel ? std::to_string(*limit->result.channel + 1) : "",
                          value.value ? PageCell(value) : PageCell(std::string("no value")),
                          limit->result.past});
  }
  if (std::none_of(broken.begin(), broken.end(),
                   [](const CellLimit* limit) { return !limit->result.past.empty(); })) {
    table.columns.pop_back();
    for (auto& row : table.rows) row.pop_back();
  }
  return table;
}

}  // namespace

Page bench_page(const Plan& plan, const std::vector<CellResult>& results,
                const std::vector<CellLimit>& limits) {
  std::vector<const CellLimit*> broken;
  for (const CellLimit& limit : limits)
    if (limit.result.outcome != LimitResult::Outcome::kept) broken.push_back(&limit);
  Page page;
  const auto shown = shown_measures(plan);
  std::vector<Sentence> spans;
  for (const PlanMeasure& measure : shown)
    if (Sentence span = span_of(measure, results); !span.empty()) spans.push_back(std::move(span));
  if (!plan.enough.empty()) page.answer.push_back({enough_sentence(plan, results, limits)});
  const Sentence judged = {verdict(plan, results, limits, broken)};
  if (!limits.empty()) page.answer.push_back(judged);
  page.answer.insert(page.answer.end(), spans.begin(), spans.end());
  if (limits.empty()) page.answer.push_back(judged);
  PageTable reasons{.key = "failed", .title = "Failed:", .columns = {{"cell", "cell"}, {"reason", "reason"}}};
  for (const CellResult& result : results)
    if (!has_sheets(result)) reasons.rows.push_back({name_of(result), result.reason});
  for (const CellLimit* limit : broken) remark(page, limit->missing);
  for (const CellResult& result : results) remark(page, result.doubt);
  page.tables.push_back(not_kept_table(results, broken));
  page.tables.push_back(std::move(reasons));
  page.tables.push_back(warnings_of(results));
  if (page.tables.back().rows.size() == kMostWarnings)
    remark(page, "more warnings than these may be there; --sheet FILE holds all");
  for (const PlanMeasure& measure : shown) add_matrix(plan, results, measure, page);
  return page;
}

}  // namespace wavicon
