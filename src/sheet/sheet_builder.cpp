// SPDX-License-Identifier: MIT
#include "wavicon/sheet/sheet_builder.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <stdexcept>
#include <utility>

namespace wavicon {

SheetBuilder::SheetBuilder(const ReadingTable& table, CaptureInfo capture) : table_(table) {
  sheet_.measurement = table.measurement;
  sheet_.capture = std::move(capture);
}

SheetBuilder::SheetBuilder(const ReadingTable& table, Sheet sheet)
    : table_(table), sheet_(std::move(sheet)) {}

Reading& SheetBuilder::add(std::string_view name, std::optional<int> channel, std::optional<double> value,
                           Conditions conditions) {
  sheet_.readings.push_back(make_reading(table_, name, channel, value, std::move(conditions)));
  return sheet_.readings.back();
}

void SheetBuilder::say(Severity severity, FindingCode code, std::string text, std::optional<int> channel) {
  sheet_.findings.push_back({severity, code, std::move(text), channel});
}

void SheetBuilder::draw(Curve curve) { sheet_.curves.push_back(std::move(curve)); }

Sheet SheetBuilder::finish() {
  // What has no value, or is only a bound, is uncertain by nothing.
  for (Reading& reading : sheet_.readings)
    if (!reading.value || reading.bound) reading.uncertainty.reset();
#if WAVICON_STRICT_SHEETS
  for (const Reading& reading : sheet_.readings)
    if (const auto missing = missing_of(reading); !missing.empty())
      throw std::logic_error(fmt::format("the reading '{}' of '{}' lacks {}", reading.name,
                                         sheet_.measurement, fmt::join(missing, ", ")));
#endif
  return std::move(sheet_);
}

}  // namespace wavicon
