// SPDX-License-Identifier: MIT
#include "wavicon/present/table.hpp"

#include "present/example_sheet.hpp"

namespace wavicon::table_test {
namespace {

using testing::example;

TEST(Table, LinesUpAndSaysBoundsAndFloors) {
  EXPECT_EQ(sheet_table(example()),
            "c.wav: a tone\n"
            "c.wav: warning: it clips\n"
            "\n"
            "  reading                value        own floor\n"
            "  fundamental_hz    997.000000  Hz                    duration 2 s, window Kaiser 38\n"
            "  fundamental_dbfs     -13.500  dBFS\n"
            "  h2_dbc             < -131.00  dBc     -170.00  dBc  at 1994 Hz\n"
            "  h3_dbc                -48.77  dBc     -170.00  dBc  at 2991 Hz\n"
            "  thd_db                  none                        H2 to H4\n"
            "\n"
            "  sample rate 48000 Hz\n");
}

// No more digits than are sure, and the uncertainty beside them where a digit that is shown is not.
TEST(Table, DigitsFollowTheUncertainty) {
  Sheet sheet = example();
  const auto shown = [&](double value, double uncertainty) {
    sheet.readings[3].value = value;
    sheet.readings[3].uncertainty = uncertainty;
    const std::string text = sheet_table(sheet), line = text.substr(text.find("h3_dbc"));
    std::istringstream words(line.substr(0, line.find(" dBc ")));
    std::string word, joined;
    while (words >> word) joined += (joined.empty() ? "" : " ") + word;
    return joined;
  };
  EXPECT_EQ(shown(-48.7712, 0.37), "h3_dbc -48.8 ±0.4");
  EXPECT_EQ(shown(-48.7712, 0.12), "h3_dbc -48.77 ±0.12");
  EXPECT_EQ(shown(-48.7712, 6), "h3_dbc -49 ±6");
  EXPECT_EQ(shown(-48.7712, 14.4), "h3_dbc -49 ±14");
  EXPECT_EQ(shown(-48.7712, 0.0004), "h3_dbc -48.77");
  EXPECT_EQ(shown(-48.7712, 0), "h3_dbc -48.77");
  // Of a percentage all digits count.
  sheet.readings = {make_reading(testing::example_table(), "thd_percent", 0, 0.0831, {})};
  sheet.readings[0].uncertainty = 0.004;
  EXPECT_HAS(sheet_table(sheet), "0.083  ±0.004  %");
  sheet.readings[0].uncertainty = 1e-6;
  EXPECT_EQ(sheet_table(sheet).find("±"), std::string::npos);
}

TEST(Table, NamesChannelsWhenThereAreSeveral) {
  Sheet sheet = example();
  sheet.capture.channels = 2;
  const std::string text = sheet_table(sheet);
  EXPECT_NE(text.find("c.wav, channel 1: a tone"), std::string::npos);
  EXPECT_NE(text.find("\n  channel 1\n"), std::string::npos);
}

TEST(Table, LimitsSayHowTheyStand) {
  const ReadingEntry* thd = find_entry(testing::example_table(), "thd_db");
  EXPECT_EQ(
      limit_lines({{"thd_db<-80", 0, -90.0, "dB", thd, LimitResult::Outcome::kept, -80, "a.wav", 1},
                   {"thd_db<-80", 1, -70.0, "dB", thd, LimitResult::Outcome::broken, -80, "b.wav", 2},
                   {"thd_db>-60", 0, -70.0, "dB", thd, LimitResult::Outcome::broken, -60, "", 1},
                   {"thd_db<-80", std::nullopt, std::nullopt, "dB", thd, LimitResult::Outcome::undecided}}),
      "limit thd_db<-80, a.wav: kept (-90.00 dB)\n"
      "limit thd_db<-80, b.wav, channel 2: not kept (-70.00 dB, 10.00 dB too high)\n"
      "limit thd_db>-60: not kept (-70.00 dB, 10.00 dB too low)\n"
      "limit thd_db<-80: undecided, which counts as not kept (there is no value)\n");
}

TEST(Table, CountsLettersNotBytes) {
  EXPECT_EQ(aligned({{"é", "1"}, {"ab", "22"}}, {false, true}), "é    1\nab  22\n");
}

}  // namespace
}  // namespace wavicon::table_test
