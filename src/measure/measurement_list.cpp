// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement_list.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>
#include <utility>

#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/intake/bounce.hpp"

// One line for each measurement, in the order in which they are shown: its folder announces
// NAME_measurement().
#define WAVICON_MEASUREMENTS(X) \
  X(levels)                     \
  X(spectrum)                   \
  X(spectrogram)                \
  X(harmonics)                  \
  X(noise)                      \
  X(response)                   \
  X(aliasing)                   \
  X(dynamics)                   \
  X(clipping)                   \
  X(waveforms)                  \
  X(null)                       \
  X(latency)                    \
  X(pair)                       \
  X(takes)

namespace wavicon {

#define WAVICON_DECLARE(name) MeasurementDescriptor name##_measurement();
WAVICON_MEASUREMENTS(WAVICON_DECLARE)
#undef WAVICON_DECLARE

namespace {

constexpr const char* kNothing = "nothing";

// Measurements that a part of that kind can be measured by, the usual ones first.
std::vector<std::string> possible_for(const MeasurementList& list, const PartKind& kind) {
  std::vector<std::string> words;
  for (const PartUse use : {PartUse::usual, PartUse::possible})
    for (const MeasurementDescriptor& measurement : list)
      if (measurement.part_use != nullptr && measurement.part_use(kind) == use)
        words.push_back(measurement.name);
  return words;
}

std::vector<std::string> usual_for(const MeasurementList& list, const PartKind& kind) {
  std::vector<std::string> words;
  for (const MeasurementDescriptor& measurement : list)
    if (measurement.part_use != nullptr && measurement.part_use(kind) == PartUse::usual)
      words.push_back(measurement.name);
  return words;
}

PartSheet measure_part(const JudgedCapture& capture, const MeasurementDescriptor& measurement,
                       std::size_t part) {
  const std::string& name = capture.stimulus().parts()[part].name;
  PartSheet of{part, measurement.name, {}, ""};
  try {
    const auto instance = measurement.make();
    MeasureRequest request;
    if (!measurement.all_parts_at_once) request.selection.part = name;
    if (measurement.input == MeasuredInput::against)
      request.reference = judge_stimulus(capture.known_stimulus());
    auto sheets = measured(*instance, request, capture.admitted(policy_of(measurement)));
    instance->conclude(request, sheets);
    of.sheet = std::move(sheets.back());
    for (Reading& reading : of.sheet.readings)
      if (find_condition(reading, "part") == nullptr) reading.conditions.emplace_back("part", name);
  } catch (const UnfitCapture& unfit) {
    of.unfit = unfit.fault();
    of.problem = unfit.what();
  } catch (const Error& error) {
    of.problem = error.what();
  }
  return of;
}

}  // namespace

const MeasurementList& measurements() {
#define WAVICON_LIST(name) name##_measurement(),
  static const MeasurementList kList = {WAVICON_MEASUREMENTS(WAVICON_LIST)};
#undef WAVICON_LIST
  return kList;
}

const MeasurementDescriptor* find_measurement(const MeasurementList& list, std::string_view name) {
  const auto found = std::find_if(list.begin(), list.end(), [&](const auto& m) { return m.name == name; });
  return found == list.end() ? nullptr : &*found;
}

std::vector<const ReadingTable*> reading_tables(const MeasurementList& list) {
  std::vector<const ReadingTable*> tables = {&health_readings(), &kit_readings()};
  for (const MeasurementDescriptor& measurement : list)
    for (const auto& table : measurement.tables) tables.push_back(&table());
  return tables;
}

std::vector<std::string> reading_names(const MeasurementDescriptor& measurement) {
  std::vector<const ReadingTable*> tables;
  for (const auto& table : measurement.tables) tables.push_back(&table());
  return reading_names_of(tables);
}

std::vector<std::string> reading_names_of(const std::vector<const ReadingTable*>& tables) {
  std::vector<std::string> names;
  for (const ReadingTable* table : tables)
    for (const ReadingEntry& entry : table->entries)
      if (std::find(names.begin(), names.end(), entry.name) == names.end()) names.push_back(entry.name);
  return names;
}

std::vector<std::string> measure_words(const MeasurementList& list) {
  std::vector<std::string> words;
  for (const MeasurementDescriptor& measurement : list)
    if (measurement.part_use != nullptr) words.push_back(measurement.name);
  words.emplace_back(kNothing);
  return words;
}

std::string measure_problem(const MeasurementList& list, const RecipePart& part) {
  const auto words = measure_words(list), possible = possible_for(list, part.kind);
  for (const std::string& word : part.measure) {
    if (std::find(words.begin(), words.end(), word) == words.end())
      return fmt::format("measure: there is no measurement '{}' of a part{}", word, name_hint(word, words));
    if (word == kNothing || std::find(possible.begin(), possible.end(), word) != possible.end()) continue;
    return fmt::format("measure: {} is not made of a part of kind {}; it takes {}", word,
                       kind_name(part.kind), fmt::join(possible, ", "));
  }
  return "";
}

std::vector<PartSheet> measure_parts(const JudgedCapture& capture, const MeasurementList& list) {
  const Stimulus& stimulus = capture.stimulus();
  (void)capture.take();  // without a place there is nothing to measure
  std::vector<PartSheet> sheets;
  std::set<std::string> usual_of;  // kinds
  std::set<std::string> made;      // of all parts at once
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    const RecipePart& part = stimulus.recipe().parts[i];
    std::vector<std::string> wanted = part.measure;
    if (wanted.empty() && usual_of.insert(stimulus.parts()[i].kind).second)
      wanted = usual_for(list, part.kind);
    for (const std::string& word : wanted) {
      if (word == kNothing) continue;
      const MeasurementDescriptor* measurement = find_measurement(list, word);
      if (measurement == nullptr) {
        sheets.push_back({i, word, {}, fmt::format("there is no measurement '{}'", word)});
        continue;
      }
      if (measurement->all_parts_at_once && !made.insert(word).second) continue;
      sheets.push_back(measure_part(capture, *measurement, i));
    }
  }
  return sheets;
}

}  // namespace wavicon
