// SPDX-License-Identifier: MIT
#include "measure/common/option_fields.hpp"

namespace wavicon::measure_detail {

OptionField band_field(std::vector<double>& band_hz, const char* sentence) {
  return {.key = "band_hz", .target = &band_hz, .unit = "Hz", .sentence = sentence, .count = 2};
}

int only_when_named(const PartKind&) { return 0; }

void add_part(Sheet& sheet, const std::string& part) {
  if (part.empty()) return;
  for (Reading& reading : sheet.readings) reading.conditions.emplace_back("part", part);
}

const char* one_or_several(const std::vector<Sheet>& sheets, const char* one, const char* several) {
  return sheets.size() == 1 ? one : several;
}

}  // namespace wavicon::measure_detail
