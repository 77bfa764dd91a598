// SPDX-License-Identifier: MIT
#include "bench/result_parts.hpp"

#include <algorithm>

#include "bench/conditions.hpp"
#include "bench/history_parts.hpp"
#include "bench/plan_names.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::bench_detail {
namespace {

constexpr std::size_t kMostReadings = 4;  // columns of a matrix beside the rows' values

std::vector<std::string> telling(const std::string& name) {
  std::vector<std::string> names;
  const MeasurementDescriptor& descriptor = *find_measurement(measurements(), name);
  for (const auto* list : {&descriptor.headline, &descriptor.deciding})
    for (const std::string& one : *list)
      if (std::find(names.begin(), names.end(), one) == names.end()) names.push_back(one);
  return names;
}

bool is_alike(const PlanMeasure& a, const PlanMeasure& b) {
  return a.name == b.name && a.against == b.against && a.part == b.part;
}

// Sheets that were kept say what they were asked for, unless their figures alone were read.
bool is_of_part(const Sheet& sheet, const PlanMeasure& measure) {
  if (!sheet.context) return true;
  const auto& options = sheet.context->options;
  const auto part =
      std::find_if(options.begin(), options.end(), [](const auto& option) { return option.first == "part"; });
  return (part == options.end() ? "" : part->second) == measure.part;
}

}  // namespace

bool has_sheets(const CellResult& result) { return result.state != CellResult::State::failed; }

bool is_of(const CellResult& result, const PlanMeasure& measure) {
  return std::any_of(result.run.measures.begin(), result.run.measures.end(),
                     [&](const PlanMeasure& one) { return is_alike(one, measure); });
}

bool is_of(const Sheet& sheet, const PlanMeasure& measure) {
  return sheet.measurement == measure.name && is_of_part(sheet, measure);
}

std::string key_of(const PlanMeasure& measure) {
  return measure.name + (measure.part.empty() ? "" : "_" + measure.part) +
         (measure.against.empty() ? "" : "_against");
}

std::string title_of(const PlanMeasure& measure) {
  std::string title = measure.name;
  if (!measure.part.empty()) title += " of the part " + measure.part;
  if (measure.against == kAll) return title + ", each against each";
  return measure.against.empty() ? title : title + " against " + measure.against;
}

const Reading* deciding(const CellResult& result, const PlanMeasure& measure, const std::string& name) {
  const Reading* worst = nullptr;
  for (const Sheet& sheet : result.sheets) {
    if (!is_of(sheet, measure)) continue;
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

std::vector<std::string> columns_of(const PlanMeasure& measure, const std::vector<CellResult>& results) {
  std::vector<std::string> names;
  if (measure.name == kExamination) {
    for (const CellResult& result : results)
      for (const Sheet& sheet : result.sheets)
        for (const Reading& reading : sheet.readings)
          if (sheet.measurement == measure.name &&
              std::find(names.begin(), names.end(), reading.name) == names.end())
            names.push_back(reading.name);
    return names;
  }
  for (const std::string& name : measure.show.empty() ? telling(measure.name) : measure.show) {
    if (names.size() == kMostReadings && measure.show.empty()) break;
    if (name.find("{}") != std::string::npos) continue;
    if (std::any_of(results.begin(), results.end(), [&](const CellResult& result) {
          return is_of(result, measure) && deciding(result, measure, name) != nullptr;
        }))
      names.push_back(name);
  }
  return names;
}

std::vector<std::string> first_shown(const PlanMeasure& measure, const std::vector<CellResult>& results) {
  std::vector<std::string> names = columns_of(measure, results);
  if (measure.show.empty())
    std::stable_partition(names.begin(), names.end(), [&](const std::string& name) {
      const ReadingEntry* entry = entry_of(measure.name, name);
      return entry != nullptr && entry->better != Better::neither;
    });
  return names;
}

std::vector<PlanMeasure> shown_measures(const Plan& plan) {
  std::vector<PlanMeasure> shown;
  for (const PlanMeasure& measure : plan.measures)
    if (std::none_of(shown.begin(), shown.end(),
                     [&](const PlanMeasure& one) { return is_alike(one, measure); }))
      shown.push_back(measure);
  return shown;
}

}  // namespace wavicon::bench_detail
