#pragma once
// A sheet with one of everything.

#include "support.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon::testing {

inline Sheet example() {
  Sheet sheet{"harmonics", {"c.wav", "24-bit", 48000, 1, 96000}, {}, {}, {}};
  const Conditions common = {{"sample_rate_hz", 48000.0}};
  auto with = [&](Conditions more) {
    more.insert(more.begin(), common.begin(), common.end());
    return more;
  };
  sheet.readings = {{"fundamental_hz", 0, 997.0, "Hz", std::nullopt, false,
                     with({{"duration_s", 2.0}, {"window", std::string("Kaiser 38")}})},
                    {"fundamental_dbfs", 0, -13.5, "dBFS", std::nullopt, false, with({})},
                    {"h2_dbc", 0, -131.0, "dBc", -170.0, true, with({{"at_hz", 1994.0}})},
                    {"h3_dbc", 0, -48.774, "dBc", -170.0, false, with({{"at_hz", 2991.0}})},
                    {"thd_db", 0, std::nullopt, "dB", std::nullopt, false,
                     with({{"orders", std::vector<double>{2, 3, 4}}})}};
  sheet.curves = {{"spectrum", 0, "Hz", "dBFS", {20, 997, 20000}, {-150, -13.5, -150}},
                  {"own floor", 0, "Hz", "dBFS", {20, 20000}, {-170, -170}}};
  sheet.findings = {{Severity::note, "a tone", 0}, {Severity::warning, "it clips", 0}};
  return sheet;
}

}  // namespace wavicon::testing
