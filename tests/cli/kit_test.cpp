// SPDX-License-Identifier: MIT
#include <filesystem>

#include "program.hpp"

namespace wavicon::kit_test {
namespace {

using namespace testing;

class Kit : public Program {};

TEST_F(Kit, IsMadeTakenThroughASessionAndRead) {
  const std::string recipe = std::string("'") + WAVICON_SOURCE_DIR + "/data/session-kit.toml'";
  good("kit make " + recipe + " --rates 44100,48000 -o k --quiet");
  const std::string page = read_text(file("k/instructions.txt"));
  for (const char* word : {"session-44100.wav", "session-48000.wav", "normalising", "dither", "fades",
                           "pan law", "stretch", "bounces/", "kit read"})
    EXPECT_HAS(page, word);
  EXPECT_HAS(bad(3, "kit read k"), "holds no audio files yet");
  std::filesystem::copy(file("k/stimuli/session-48000.wav"), file("k/bounces/bare.wav"));
  good(
      "feed k/stimuli/session-48000.wav --quiet --through 'sim:tern?drive=12' --bits 24 -o 'k/bounces/with "
      "tern.wav'");
  good(
      "feed k/stimuli/session-44100.wav --quiet --through 'sim:heron?delay=300&gain=-3.01&noise=-200' "
      "--keep-latency --bits 16 --dither -o k/bounces/late.wav");
  const std::string text = good("kit read k");
  EXPECT_HAS(text, "bare.wav: the session left it untouched: no gain, trim, fade or resampling");
  EXPECT_HAS(text, "late.wav: warning: a gain of -3.01 dB, as of a pan law of -3 dB");
  EXPECT_HAS(text, "late.wav: warning: 300 frames late in a file as long as the stimulus");
  EXPECT_HAS(text, "shortened to 16 bits, with dither");
  EXPECT_HAS(text, "with tern.wav");
  EXPECT_HAS(text, " THD ");
  const json sheets = json::parse(good("kit read k --json"));
  ASSERT_EQ(sheets.size(), 3U);
  for (const json& r : sheets[2]["readings"])
    if (r["name"] == "thd_db") {
      EXPECT_NEAR(r["value"].get<double>(), -61.63, 0.02);
    }
}

TEST_F(Kit, ARecipeSaysWhatIsMeasuredOfEachPart) {
  write_text(file("r.toml"), R"(name = "all"
[[part]]
kind = "tone"
name = "soft"
seconds = 1.5
silence_before_s = 0.3
measure = ["harmonics", "noise"]
[[part]]
kind = "tone"
name = "a loud one"
level_dbfs = -6.0
seconds = 1.5
measure = ["harmonics"]
[[part]]
kind = "silence"
name = "hush"
measure = ["nothing"]
[[part]]
kind = "staircase"
name = "stairs"
levels_dbfs = [-50.0, -45.0, -40.0, -35.0, -30.0, -25.0, -20.0, -15.0, -10.0]
step_s = 0.4
[[part]]
kind = "block"
low_dbfs = -40.0
high_dbfs = -10.0
after_s = 0.8
[[part]]
kind = "multitone"
name = "climb"
oscillators = [{ frequency_hz = 997.0, level_dbfs = -40.0, to_dbfs = -1.0 }]
seconds = 4.0
[[part]]
kind = "noise"
name = "pink"
colour = "pink"
period_s = 0.7
seconds = 3.0
silence_before_s = 0.5
)");
  good("kit make r.toml -o k --quiet");
  for (const auto& [name, unit] : {std::pair{"heron", "sim:heron?clip=-4&noise=-200"},
                                   {"plover", "sim:plover?threshold=-30&ratio=4&attack=10&release=60"}})
    good("feed k/stimuli/all-48000.wav --quiet --through '" + std::string(unit) + "' -o k/bounces/" + name +
         ".wav");
  const json sheets = json::parse(good("kit read k --json"));
  const auto value = [&](std::size_t i, const std::string& name) {
    return reading(sheets[i], name)["value"].get<double>();
  };
  EXPECT_NEAR(value(0, "soft_fundamental_dbfs"), -20, 0.01);
  EXPECT_NEAR(value(0, "a_loud_one_fundamental_dbfs"), -6, 0.01);
  EXPECT_LT(value(0, "noise_dbfs"), -130) << "beside the tone";
  EXPECT_NEAR(value(0, "clipping_point_dbfs"), -4, 0.4);
  EXPECT_NEAR(value(0, "response_gain_db"), 0, 0.01);
  EXPECT_EQ(reading(sheets[0], "response_gain_db")["conditions"]["part"], "pink");
  EXPECT_NEAR(value(1, "threshold_dbfs"), -30, 0.2);
  EXPECT_NEAR(value(1, "ratio"), 4, 0.1);
  EXPECT_GT(value(1, "release_90_ms"), 60);
  const std::string text = good("kit read k");
  EXPECT_HAS(text, "a loud one:");
  EXPECT_EQ(text.find("hush"), std::string::npos);
}

TEST_F(Kit, WhatIsNoBounceIsSaidAndTheOthersAreRead) {
  write_text(file("r.toml"), "name = \"tone\"\n[[part]]\nkind = \"tone\"\nsilence_before_s = 0.3\n");
  good("kit make r.toml -o k --quiet");
  std::filesystem::copy(file("k/stimuli/tone-48000.wav"), file("k/bounces/good.wav"));
  good("make noise --no-marks --seconds 2 -o k/bounces/other.wav");
  write_text(file("k/bounces/broken.wav"), "no audio");
  const Ran ran = wavicon("kit read k");
  EXPECT_EQ(ran.status, 3);
  EXPECT_HAS(ran.out, "good.wav: the session left it untouched: no gain, trim, fade or resampling");
  EXPECT_HAS(ran.out, "other.wav: fault: the stimulus is not found in it");
  EXPECT_HAS(ran.out, "broken.wav: fault: ");
  EXPECT_EQ(wavicon("kit read k --jobs 1").out, ran.out);
  EXPECT_HAS(bad(2, "kit read k --jobs 0"), "--jobs");
  EXPECT_HAS(bad(2, "kit read ."), "holds no recipe.toml");
  write_text(file("n.toml"), "marks = false\n[[part]]\nkind = \"tone\"\n");
  EXPECT_HAS(bad(3, "kit make n.toml -o n"), "a kit needs marks");
}

}  // namespace
}  // namespace wavicon::kit_test
