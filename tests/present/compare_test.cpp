// SPDX-License-Identifier: MIT
#include "present/example_sheet.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon {
namespace {

using testing::reading;

Sheet sheet_of(const std::string& file, double rms, bool bound = false) {
  Sheet sheet{"levels", {file, "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
  const Conditions rate = {{"sample_rate_hz", 48000.0}};
  sheet.readings = {
      reading("rms_dbfs", rms, rate, std::nullopt, bound), reading("rms", 0.5, rate),
      reading("alias_dbc", rms - 10, {{"order", std::int64_t{3}}, {"sample_rate_hz", 48000.0}}),
      reading("alias_dbc", rms - 20, {{"order", std::int64_t{5}}, {"sample_rate_hz", 48000.0}})};
  sheet.findings.push_back({Severity::warning, FindingCode::detail, "it is loud", 0});
  return sheet;
}

TEST(ComparisonTable, LaysSheetsSideBySide) {
  EXPECT_EQ(comparison_table({sheet_of("a/one.wav", -20), sheet_of("b/two.wav", -26)}),
            "a/one.wav: warning: it is loud\n"
            "b/two.wav: warning: it is loud\n"
            "\n"
            "  reading             one.wav  two.wav        difference\n"
            "  rms_dbfs            -20.000  -26.000  dBFS      -6.000\n"
            "  rms                     0.5      0.5\n"
            "  alias_dbc, order 3   -30.00   -36.00  dBc       -6.000\n"
            "  alias_dbc, order 5   -40.00   -46.00  dBc       -6.000\n"
            "\n"
            "  sample rate 48000 Hz\n");
}

TEST(ComparisonTable, NothingIsSubtractedFromABoundAndNamesStayApart) {
  const std::string text = comparison_table({sheet_of("a/x.wav", -20, true), sheet_of("b/x.wav", -20.0001)});
  EXPECT_NE(text.find("a/x.wav"), std::string::npos);
  EXPECT_NE(text.find("< -20.000"), std::string::npos);
  EXPECT_EQ(text.find("< -20.000  -20.000  dBFS      -"), std::string::npos);
  EXPECT_EQ(text.find("-0.000"), std::string::npos);
}

TEST(LadderTable, ARowForEachStep) {
  EXPECT_EQ(ladder_table({sheet_of("a", -20), sheet_of("a", -30)}, {"first", "second"},
                         {"rms_dbfs", "no_such", "rms"}),
            "  step    rms_dbfs  rms\n"
            "  first    -20.000  0.5\n"
            "  second   -30.000  0.5\n");
}

}  // namespace
}  // namespace wavicon
