// SPDX-License-Identifier: MIT
#pragma once
// Plans of tests, and what came out.

#include <string>

#include "support.hpp"
#include "wavicon/bench/run.hpp"

namespace wavicon::testing {

inline constexpr const char* kPlay = R"([play]
sample_rate_hz = 48000
[[play.part]]
kind = "tone"
frequency_hz = 997
level_dbfs = -12
seconds = 0.5
)";
inline const std::string kMeasure = "[[measure]]\nwith = \"harmonics\"\n";

inline std::string plan_with(const std::string& head, const std::string& tail) { return head + kPlay + tail; }
inline Plan plan_of(const std::string& text, const std::filesystem::path& folder = ".") {
  return parse_plan(text, "p.toml", folder);
}
inline std::vector<CellResult> results_of(const Plan& plan, const BenchOptions& options = {}) {
  return run_cells(plan, cells_of(plan), options);
}
/// The value of a reading in the first sheet that has it; NaN: none has.
inline double value_of(const CellResult& result, const std::string& name) {
  for (const Sheet& sheet : result.sheets)
    for (const Reading& reading : sheet.readings)
      if (reading.name == name && reading.value) return *reading.value;
  return std::nan("");
}

}  // namespace wavicon::testing
