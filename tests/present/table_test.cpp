// SPDX-License-Identifier: MIT
#include "wavicon/present/table.hpp"

#include "present/example_sheet.hpp"

namespace wavicon {
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
      limit_lines({{"thd_db<-80", 0, -90.0, "dB", thd, LimitResult::Outcome::kept},
                   {"thd_db<-80", 1, -70.0, "dB", thd, LimitResult::Outcome::broken},
                   {"thd_db<-80", std::nullopt, std::nullopt, "dB", thd, LimitResult::Outcome::undecided}}),
      "limit thd_db<-80, channel 1: kept (-90.00 dB)\n"
      "limit thd_db<-80, channel 2: not kept (-70.00 dB)\n"
      "limit thd_db<-80: undecided, which counts as not kept (there is no value)\n");
}

TEST(Table, CountsLettersNotBytes) {
  EXPECT_EQ(aligned({{"é", "1"}, {"ab", "22"}}, {false, true}), "é    1\nab  22\n");
}

}  // namespace
}  // namespace wavicon
