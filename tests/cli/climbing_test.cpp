// SPDX-License-Identifier: MIT
// clipping, waveforms, and harmonics over frequency as a user meets them.

#include "program.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::climbing_test {
namespace {

using namespace testing;

class Climbing : public Program {
 protected:
};

TEST_F(Climbing, HeronsClippingPointFromARampAStaircaseAndAHand) {
  good(std::string("make --recipe '") + WAVICON_SOURCE_DIR + "/data/ramp.toml' -o ramp.wav");
  good("make staircase --levels=-40,-30,-20,-12,-8,-6,-5,-4,-3,-2,-1 --step 0.3 --marks -o steps.wav");
  for (const char* name : {"ramp", "steps"})
    good(std::string("feed ") + name + ".wav --quiet --through 'sim:heron?clip=-4.2&noise=-100' -o h-" +
         name + ".wav");
  // A sine passes 1 % of THD 0.26 dB over the level at which it is cut.
  for (const char* name : {"ramp", "steps"}) {
    const json sheet = json::parse(good(std::string("clipping --json h-") + name + ".wav"));
    EXPECT_NEAR(reading(sheet, "clipping_point_dbfs")["value"].get<double>(), -4.2 + 0.26,
                name[0] == 'r' ? 0.05 : 0.3);
    EXPECT_NEAR(reading(sheet, "ceiling_dbfs")["value"].get<double>(), -4.2, 0.01);
  }
  const std::string text = good("clipping h-ramp.wav ramp.wav --plot c.png --alignment -18");
  EXPECT_HAS(text, "h-ramp.wav: clips at -3.9");
  EXPECT_HAS(text, "it is hard");
  EXPECT_HAS(text, "ramp.wav: it does not clip: THD stays below 1 %");
  const json by_hand = json::parse(good("clipping --json h-ramp.wav --tone 997"));
  // The mark takes 0.4 s, then 40 dB in 10 s.
  EXPECT_NEAR(reading(by_hand, "clipping_at_s")["value"].get<double>(), 0.4 + 10 * (40 - 3.94) / 40, 0.1);
  EXPECT_EQ(wavicon("clipping h-ramp.wav --quiet --limit 'headroom_db<10'").status, 1);
  good("make noise --seconds 2 -o n.wav");
  bad(3, "clipping n.wav");
  EXPECT_HAS(bad(2, "clipping ramp.wav --part rmap"), "did you mean 'ramp'");
}

TEST_F(Climbing, WaveformsOfCurlewInWords) {
  good("make staircase --frequencies 100,997,9973,19997 --levels -12 --step 0.6 --marks -o four.wav");
  good("feed four.wav --quiet --through 'sim:curlew?bits=6' -o c.wav");
  const std::string text = good("waveforms four.wav c.wav --plot w.png");
  EXPECT_HAS(text, "9973 Hz: 9.90 dB softer");
  EXPECT_HAS(text, "beyond the end of its band");
  EXPECT_HAS(text, "a line of its own at");
  EXPECT_GT(read_text(file("w.png")).size(), 10000U);
  EXPECT_HAS(good("waveforms four.wav four.wav"), "997 Hz: unchanged");
  good("make noise --seconds 1 -o n.wav");
  bad(3, "waveforms four.wav n.wav");
}

TEST_F(Climbing, HarmonicsOverTheFrequencyOfASweep) {
  good("make sweep --from 18 --to 22000 --seconds 5 --level -6 -o s.wav");
  good("feed s.wav --quiet --through 'sim:tern?drive=18' -o t.wav");
  const json sheet = json::parse(good("harmonics --json t.wav"));
  // Order 3 of an arctangent at g·A = 10^(6/20)·10^(-6/20) = 1: r²/… the closed form of Tern's page.
  const double g = ratio_from_db(6), a = ratio_from_db(-6), r = (std::sqrt(1 + g * a * g * a) - 1) / (g * a);
  for (const json& curve : sheet["curves"])
    if (curve["name"] == "H3") {
      for (const json& y : curve["y"]) EXPECT_NEAR(y.get<double>(), db_from_ratio(r * r / 3), 0.05);
    }
  EXPECT_HAS(good("harmonics t.wav s.wav --plot h.png"), "dB at 1000 Hz");
}

}  // namespace
}  // namespace wavicon::climbing_test
