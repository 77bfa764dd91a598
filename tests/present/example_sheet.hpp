// SPDX-License-Identifier: MIT
#pragma once
// A sheet with one of everything.

#include "support.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon::testing {

inline const ReadingTable& example_table() {
  static const ReadingTable kTable = {
      "harmonics",
      {{.name = "fundamental_hz", .unit = "Hz", .words = "fundamental", .digits = 6},
       {.name = "fundamental_dbfs", .unit = "dBFS", .digits = 3},
       {.name = "h{}_dbc", .unit = "dBc", .words = "H{}"},
       {.name = "thd_db", .unit = "dB", .words = "THD"},
       {.name = "thd_percent", .unit = "%", .words = "THD", .digits = 4},
       {.name = "rms_dbfs", .unit = "dBFS", .words = "RMS level", .digits = 3},
       {.name = "rms", .digits = 6},
       {.name = "peak_dbfs", .unit = "dBFS", .words = "highest sample"},
       {.name = "alias_dbc", .unit = "dBc", .words = "product"},
       {.name = "corner_hz", .unit = "Hz", .words = "corner", .digits = 1},
       {.name = "line_dbfs", .unit = "dBFS", .words = "line"}}};
  return kTable;
}

inline Reading reading(const std::string& name, std::optional<double> value, Conditions conditions,
                       std::optional<double> floor = std::nullopt, bool bound = false) {
  Reading r = make_reading(example_table(), name, 0, value, std::move(conditions));
  r.floor = floor;
  r.bound = bound;
  return r;
}

inline Sheet example() {
  Sheet sheet{"harmonics", {"c.wav", "24-bit", 48000, 1, 96000}, {}, {}, {}};
  const Conditions common = {{"sample_rate_hz", 48000.0}};
  auto with = [&](Conditions more) {
    more.insert(more.begin(), common.begin(), common.end());
    return more;
  };
  sheet.readings = {
      reading("fundamental_hz", 997.0, with({{"duration_s", 2.0}, {"window", std::string("Kaiser 38")}})),
      reading("fundamental_dbfs", -13.5, with({})),
      reading("h2_dbc", -131.0, with({{"at_hz", 1994.0}}), -170.0, true),
      reading("h3_dbc", -48.774, with({{"at_hz", 2991.0}}), -170.0),
      reading("thd_db", std::nullopt, with({{"orders", std::vector<double>{2, 3, 4}}}))};
  sheet.curves = {{"spectrum", 0, "Hz", "dBFS", {20, 997, 20000}, {-150, -13.5, -150}},
                  {"own floor", 0, "Hz", "dBFS", {20, 20000}, {-170, -170}}};
  sheet.findings = {{Severity::note, FindingCode::result, "a tone", 0},
                    {Severity::warning, FindingCode::clipped, "it clips", 0}};
  return sheet;
}

}  // namespace wavicon::testing
