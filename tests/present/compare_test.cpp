#include "support.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon {
namespace {

Sheet sheet_of(const std::string& file, double rms, bool bound = false) {
  Sheet sheet{"levels", {file, "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
  sheet.readings.push_back({"rms_dbfs", 0, rms, "dBFS", std::nullopt, bound, {{"sample_rate_hz", 48000.0}}});
  sheet.readings.push_back({"rms", 0, 0.5, "", std::nullopt, false, {{"sample_rate_hz", 48000.0}}});
  sheet.readings.push_back({"alias_dbc",
                            0,
                            rms - 10,
                            "dBc",
                            std::nullopt,
                            false,
                            {{"order", std::int64_t{3}}, {"sample_rate_hz", 48000.0}}});
  sheet.readings.push_back({"alias_dbc",
                            0,
                            rms - 20,
                            "dBc",
                            std::nullopt,
                            false,
                            {{"order", std::int64_t{5}}, {"sample_rate_hz", 48000.0}}});
  sheet.findings.push_back({Severity::warning, "it is loud", 0});
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
