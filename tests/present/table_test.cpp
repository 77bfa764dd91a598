#include "wavicon/present/table.hpp"

#include "support.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

Sheet example() {
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
  EXPECT_EQ(limit_lines({{"thd_db<-80", 0, -90.0, "dB", LimitResult::Outcome::kept},
                         {"thd_db<-80", 1, -70.0, "dB", LimitResult::Outcome::broken},
                         {"thd_db<-80", std::nullopt, std::nullopt, "dB", LimitResult::Outcome::undecided}}),
            "limit thd_db<-80, channel 1: kept (-90.00 dB)\n"
            "limit thd_db<-80, channel 2: not kept (-70.00 dB)\n"
            "limit thd_db<-80: undecided, which counts as not kept (there is no value)\n");
}

TEST(Table, CountsLettersNotBytes) {
  EXPECT_EQ(aligned({{"é", "1"}, {"ab", "22"}}, {false, true}), "é    1\nab  22\n");
}

TEST(Plot, IsAPictureOfTheAskedSize) {
  const std::string png = draw_harmonics(example());
  ASSERT_GT(png.size(), 5000U);
  EXPECT_EQ(png.substr(1, 3), "PNG");
  auto big_endian = [&](std::size_t at) {
    return (static_cast<unsigned char>(png[at + 2]) << 8) + static_cast<unsigned char>(png[at + 3]);
  };
  EXPECT_EQ(big_endian(16), 1280);
  EXPECT_EQ(big_endian(20), 800);
  const std::string svg = draw_harmonics(example(), {.format = PlotFormat::svg});
  EXPECT_NE(svg.find("<svg"), std::string::npos);
  EXPECT_NE(svg.find("a tone"), std::string::npos) << "the finding is the title";
}

TEST(Plot, RefusesASheetWithoutSpectrum) {
  EXPECT_NE(
      testing::message_of(ErrorCode::bad_argument, [] { (void)draw_harmonics({}); }).find("no spectrum"),
      std::string::npos);
}

}  // namespace
}  // namespace wavicon
