// SPDX-License-Identifier: MIT
// What a kit reads of one bounce: what was done to it, and the headline readings of its parts.

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <map>
#include <set>
#include <utility>

#include "wavicon/intake/bounce.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {
namespace {

// "White noise" as the beginning of a reading's name.
std::string snake_case(std::string text) {
  for (char& c : text)
    c = std::isalnum(static_cast<unsigned char>(c))
            ? static_cast<char>(std::tolower(static_cast<unsigned char>(c)))
            : '_';
  return text;
}

const std::vector<std::string>& headline_of(const MeasurementList& list, const std::string& measurement) {
  static const std::vector<std::string> kNone;
  const MeasurementDescriptor* found = find_measurement(list, measurement);
  return found == nullptr ? kNone : found->headline;
}

// The readings of the parts that belong into one row, of the first channel. What several parts give gets the
// part's name before it.
void add_parts(const std::vector<PartSheet>& parts, const Stimulus& stimulus, const MeasurementList& list,
               BounceReading& reading) {
  std::map<std::string, int> givers;
  for (const PartSheet& part : parts)
    for (const std::string& name : headline_of(list, part.measurement)) ++givers[name];
  std::set<std::string> unfit;
  for (const PartSheet& part : parts) {
    const std::string& called = stimulus.parts()[part.part].name;
    if (part.unfit)
      unfit.insert(called);
    else if (!part.problem.empty())
      reading.sheet.findings.push_back({Severity::warning, FindingCode::not_measured,
                                        fmt::format("'{}' was not measured: {}", called, part.problem),
                                        std::nullopt});
    for (const std::string& name : headline_of(list, part.measurement)) {
      // The bounce has a gain of its own.
      const std::string column = givers[name] > 1    ? snake_case(called) + "_" + name
                                 : name == "gain_db" ? "response_gain_db"
                                                     : name;
      if (std::find(reading.columns.begin(), reading.columns.end(), column) == reading.columns.end())
        reading.columns.push_back(column);
      const Reading* first = find_reading(part.sheet, name, 0);
      if (first == nullptr) first = find_reading(part.sheet, name, std::nullopt);
      if (first == nullptr) continue;
      reading.sheet.readings.push_back(*first);
      reading.sheet.readings.back().name = column;
    }
  }
  if (unfit.empty()) return;
  std::string names;
  for (const std::string& name : unfit) names += (names.empty() ? "'" : ", '") + name + "'";
  reading.sheet.findings.push_back({Severity::warning, FindingCode::not_measured,
                                    fmt::format("{} not measured: the bounce is unfit", names),
                                    std::nullopt});
}

}  // namespace

BounceReading measure_bounce(const JudgedCapture& bounce, const MeasurementList& list) {
  const Bounce examined = examine_bounce(bounce);
  BounceReading reading{bounce_sheet(examined, bounce.info()),
                        {"gain_db", "delay_samples", "used_bits", "peak_dbfs"}};
  // At another speed or length nothing is where its parts should be.
  if (examined.rate_ratio != 1 || examined.tempo_ratio != 1) return reading;
  for (Finding fault : bounce.held_faults()) {
    fault.severity = Severity::warning;
    reading.sheet.findings.push_back(std::move(fault));
  }
  add_parts(measure_parts(bounce, list), bounce.stimulus(), list, reading);
  return reading;
}

}  // namespace wavicon
