// SPDX-License-Identifier: MIT
// One capture for a person: the answer, what decides in words and units, and how to see the rest.
#include <sstream>

#include "present/example_sheet.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::capture_table_test {
namespace {

using testing::example;
using testing::reading;

const std::vector<std::string> kDeciding = {"fundamental_hz", "thd_percent", "thd_db", "h{}_dbc",
                                            "corner_hz"};

TEST(CaptureTable, TheAnswerThenWhatDecidesInWords) {
  Sheet sheet = example();
  sheet.readings[4].value = -48.7;
  sheet.readings.push_back(reading("thd_percent", 0.3673, {{"sample_rate_hz", 48000.0}}));
  sheet.readings.push_back(reading("corner_hz", 2513.4, {{"sample_rate_hz", 48000.0}}));
  sheet.readings.back().uncertainty = 40;
  EXPECT_EQ(capture_table(sheet, kDeciding),
            "c.wav: a tone\n"
            "c.wav: warning: it clips\n"
            "\n"
            "  fundamental  997.000000  Hz\n"
            "  THD              0.3673  % (-48.70 dB)\n"
            "  corner             2.51  kHz ±0.04\n"
            "\n"
            "           H2      H3\n"
            "  dBc  < -131  -48.77\n"
            "  sample rate 48000 Hz · --all: every reading, with floors\n");
}

TEST(CaptureTable, WhatHasNoValueIsLeftOutAndSentencesAreAllThatIsLeft) {
  Sheet sheet = example();
  EXPECT_EQ(capture_table(sheet, {"thd_db"}), "c.wav: a tone\nc.wav: warning: it clips\n");
  EXPECT_EQ(capture_table({}, kDeciding), "");
}

TEST(CaptureTable, BoundsAreRoundedUpwards) {
  Sheet sheet = example();
  sheet.readings[2].value = -130.4;
  EXPECT_HAS(capture_table(sheet, {"h{}_dbc"}), "< -130 -48.77");
  sheet.readings[2].value = -3.456;
  EXPECT_HAS(capture_table(sheet, {"h{}_dbc"}), "< -3.45 -48.77");
}

TEST(CaptureTable, LinesHaveRowsWithWhatTheyAreLikely) {
  Sheet sheet = example();
  sheet.readings.clear();
  for (const auto& [hz, dbfs, likely] :
       std::vector<std::tuple<double, double, std::string>>{{997, -20, "tone"}, {19800, -50, "carrier"}})
    sheet.readings.push_back(reading("line_dbfs", dbfs, {{"at_hz", hz}, {"likely", likely}}));
  EXPECT_HAS(capture_table(sheet, {"line_dbfs"}),
             "              line\n"
             "  at          dBFS\n"
             "  997 Hz    -20.00  tone\n"
             "  19.8 kHz  -50.00  carrier\n");
  // A single reading of one of these lines joins them; of another one it does not.
  sheet.readings.push_back(reading("corner_hz", 500, {{"at_hz", 997.0}}));
  EXPECT_HAS(capture_table(sheet, {"line_dbfs", "corner_hz"}), "997 Hz -20.00 500.0 tone");
  sheet.readings.back().conditions = {{"at_hz", 998.0}};
  EXPECT_HAS(capture_table(sheet, {"line_dbfs", "corner_hz"}), "corner 500.0 Hz");
}

// Nothing that decides is dropped: edges at several levels, and readings that nothing tells apart.
TEST(CaptureTable, SeveralOfANameAreAllShown) {
  Sheet sheet = example();
  sheet.readings = {reading("corner_hz", 120.1, {{"at_db", -3.0}}),
                    reading("corner_hz", 168.2, {{"at_db", -1.0}})};
  EXPECT_HAS(capture_table(sheet, {"corner_hz"}), "at -3 dB at -1 dB\n corner, Hz 120.1 168.2");
  for (Reading& r : sheet.readings) r.conditions.clear();
  EXPECT_HAS(capture_table(sheet, {"corner_hz"}), "corner 120.1 Hz\n corner 168.2 Hz");
}

TEST(CaptureTable, ChannelsStandBesideEachOther) {
  Sheet sheet = example();
  sheet.capture.channels = 2;
  sheet.readings = {reading("rms_dbfs", -20, {}), reading("rms_dbfs", -21.5, {})};
  sheet.readings[1].channel = 1;
  EXPECT_HAS(capture_table(sheet, {"rms_dbfs"}),
             "             channel 1  channel 2\n"
             "  RMS level    -20.000    -21.500  dBFS\n");
}

TEST(CaptureTable, ManyChannelsAreRows) {
  Sheet sheet = example();
  sheet.capture.channels = 32;
  sheet.readings.clear();
  for (int channel = 0; channel < 32; ++channel) {
    sheet.readings.push_back(reading("rms_dbfs", -20 - channel, {}));
    sheet.readings.back().channel = channel;
  }
  const std::string text = capture_table(sheet, {"rms_dbfs"});
  EXPECT_HAS(text, "RMS level\n dBFS\n channel 1 -20.000\n channel 2 -21.000\n");
  EXPECT_LT(std::count(text.begin(), text.end(), '\n'), 40);
}

// Whatever the names are: no line of a table, and of a sentence that can be parted, is wider than asked for.
TEST(CaptureTable, KeepsWithinTheColumns) {
  Sheet sheet = example();
  sheet.findings[0].text =
      "a sentence of many words that says at -20.25 dBFS what was found and goes on for long";
  for (int i = 0; i < 30; ++i)
    sheet.readings.push_back(reading("alias_dbc", -20.0 - i, {{"order", std::int64_t{i + 2}}}));
  const auto expect_within = [](const std::string& text, std::size_t columns) {
    std::istringstream lines(text);
    for (std::string line; std::getline(lines, line);) EXPECT_LE(line.size(), columns) << text;
  };
  expect_within(sheet_table(sheet, {.columns = 90}), 90);
  for (const std::size_t columns : {40U, 60U, 100U}) {
    expect_within(capture_table(sheet, {"fundamental_hz", "alias_dbc"}, {.columns = columns}), columns);
    // A number stays with its unit.
    EXPECT_NE(capture_table(sheet, {}, {.columns = columns}).find("-20.25 dBFS"), std::string::npos);
  }
}

TEST(CaptureTable, ColourOnlyWhereItIsAskedFor) {
  Sheet sheet = example();
  sheet.capture.file = "a\x1b[31mb.wav";
  const std::string plain = capture_table(sheet, kDeciding),
                    inked = capture_table(sheet, kDeciding, {.colour = true});
  EXPECT_EQ(plain.find('\x1b'), std::string::npos);
  EXPECT_HAS(inked, "\x1b[1ma\\x1b[31mb.wav: a tone\x1b[0m");
  EXPECT_HAS(inked, "\x1b[1;35ma\\x1b[31mb.wav: warning: it clips\x1b[0m");
}

TEST(CaptureTable, OneLineWhereNothingIsWrong) {
  Sheet sheet = example();
  EXPECT_EQ(findings_text(folded(sheet)), findings_text(sheet));
  sheet.findings = {{Severity::note, FindingCode::fit, "fit", std::nullopt},
                    {Severity::note, FindingCode::located, "it starts at 1 s", std::nullopt}};
  EXPECT_EQ(findings_text(folded(sheet)), "c.wav: fit; it starts at 1 s\n");
}

}  // namespace
}  // namespace wavicon::capture_table_test
