// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <sstream>

#include "present/example_sheet.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::compare_test {
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

// Rows are captures, what their names share stands once, and a line is never wider than the terminal.
TEST(CapturesTable, ARowForEachCaptureAndWhatTellsThemApart) {
  std::vector<Sheet> sheets;
  for (const int drive : {0, 6, 12}) {
    Sheet sheet{
        "levels", {fmt::format("x/tern-drive-{}-b.wav", drive), "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
    const Conditions rate = {{"sample_rate_hz", 48000.0}};
    sheet.readings = {reading("rms_dbfs", -20.0 + drive, rate), reading("rms", 0.5, rate),
                      reading("peak_dbfs", -10.0 + 0.1 * drive, rate)};
    sheet.readings[2].uncertainty = 3;
    sheet.findings.push_back({Severity::note, FindingCode::result, "it is loud", 0});
    sheets.push_back(sheet);
  }
  const std::string text = captures_table(sheets, {"no_such", "peak_dbfs"});
  // The headline stands first though it tells nothing apart; RMS does; the factor is the same in all.
  EXPECT_NE(text.find("x/tern-drive-0-b.wav: it is loud\n"), std::string::npos) << text;
  EXPECT_NE(text.find("  tern-drive  "), std::string::npos) << text;
  EXPECT_NE(text.find("\n  0 "), std::string::npos) << text;
  EXPECT_NE(text.find("\n  12 "), std::string::npos) << text;
  EXPECT_NE(text.find("over 0"), std::string::npos) << text;
  EXPECT_NE(text.find("+6.00"), std::string::npos) << text;
  EXPECT_EQ(text.find("0.5"), std::string::npos) << text;
  EXPECT_EQ(text.find("_dbfs"), std::string::npos) << text;
  EXPECT_LT(text.find("highest sample"), text.find("RMS level")) << text;
  EXPECT_NE(text.find("--all: every reading, with floors"), std::string::npos) << text;
  for (const std::size_t wide : {40U, 60U, 100U}) {
    std::istringstream lines(captures_table(sheets, {"peak_dbfs"}, {}, {.columns = wide}));
    for (std::string line; std::getline(lines, line);)
      if (line.rfind("x/", 0) != 0) {
        EXPECT_LE(line.size(), wide) << line;
      }
  }
  EXPECT_EQ(captures_table({}, {}), "");
}

TEST(LadderTable, ARowForEachStep) {
  EXPECT_EQ(ladder_table({sheet_of("a", -20), sheet_of("a", -30)}, {"first", "second"},
                         {"rms_dbfs", "no_such", "rms"}),
            "          RMS level  rms\n"
            "  step         dBFS\n"
            "  first     -20.000  0.5\n"
            "  second    -30.000  0.5\n");
  // What does not fit goes on below.
  EXPECT_EQ(ladder_table({sheet_of("a", -20)}, {"first"}, {"rms_dbfs", "rms"}, "step", {.columns = 18}),
            "         RMS level\n"
            "  step        dBFS\n"
            "  first    -20.000\n"
            "\n"
            "         rms\n"
            "  step\n"
            "  first  0.5\n");
}

// What changes downwards against what changes to the right, a table for each reading that some sheet has.
TEST(RowTable, MatricesAreTonesOverLevels) {
  RowLayout layout{.heading = "step", .names = {"a", "b", "c", "d"}};
  layout.matrices = {"rms_dbfs", "no_such"};
  layout.grid = {{"100 Hz", "1 kHz"}, {"-20 dBFS", "-10 dBFS"}, {{0, 0}, {0, 1}, {1, 0}, {1, 1}}};
  const std::string text = row_table(
      {sheet_of("x", -20), sheet_of("x", -10), sheet_of("x", -21), sheet_of("x", -11, true)}, layout);
  EXPECT_EQ(text,
            "  RMS level, dBFS  -20 dBFS   -10 dBFS\n"
            "  100 Hz            -20.000    -10.000\n"
            "  1 kHz             -21.000  < -11.000\n"
            "  --all: every reading, with floors\n");
}

}  // namespace
}  // namespace wavicon::compare_test
