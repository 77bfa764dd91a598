// SPDX-License-Identifier: MIT
#include "program.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::health_test {
namespace {

using namespace testing;

TEST_F(Program, HealthTellsGoodFromSpoiled) {
  good(std::string("make --recipe '") + WAVICON_SOURCE_DIR + "/data/booth-2-morning.toml' -o s.wav --quiet");
  good("feed s.wav --through sim:tern?drive=12 -o c.wav");
  EXPECT_HAS(good("health c.wav"), "c.wav: fit to be measured");
  good("feed s.wav --through 'sim:sandpiper?lose_at=8&lose=480&invert=1' -o b.wav");
  const Ran spoiled = wavicon("health b.wav --json");
  EXPECT_EQ(spoiled.status, 3);
  EXPECT_HAS(spoiled.out, "480 frames were lost at ");
  const json sheet = json::parse(spoiled.out);
  EXPECT_EQ(sheet["measurement"], "health");
  for (const json& reading : sheet["readings"]) {
    const double value = reading["value"].is_number() ? reading["value"].get<double>() : NAN;
    EXPECT_TRUE(reading["name"] != "lost_frames" || value == 480);
    EXPECT_TRUE(reading["name"] != "polarity" || value == -1);
  }
  EXPECT_HAS(bad(3, "harmonics b.wav"), "b.wav: unfit to be measured: 480 frames were lost at ");
  const std::string despite = good("harmonics b.wav --despite-faults");
  EXPECT_HAS(despite, "despite faults yes");
  EXPECT_HAS(despite, "part alignment");
  EXPECT_HAS(good("harmonics c.wav --part 'tone over room noise'"), "331.000 Hz at -10.");
  EXPECT_HAS(bad(2, "harmonics c.wav --part nonsense"),
             "the stimulus has no part 'nonsense' that this can be measured of; there are: "
             "alignment, voice fundamentals, whole range, tone over room noise, levels");
}

TEST_F(Program, ACaptureOfAForeignSignalIsJudgedAgainstItsReference) {
  good("make programme --seconds 8 --no-marks -o r.wav --quiet");
  good("feed r.wav --through 'sim:tern?drive=0&oversampling=2' --keep-latency --tail 1 -o c.wav --quiet");
  const json sheet = json::parse(good("health c.wav --reference r.wav --json"));
  EXPECT_EQ(sheet["readings"][0]["name"], "delay_samples");
  EXPECT_NEAR(sheet["readings"][0]["value"].get<double>(), 128, 0.01);
  good("feed r.wav --through 'sim:sandpiper?lose_at=4&lose=300' -o l.wav --quiet");
  EXPECT_HAS(wavicon("health l.wav --reference r.wav").out, "fault: 300 frames were lost between");
  good("make noise --seconds 8 --no-marks -o n.wav --quiet");
  const Ran other = wavicon("health n.wav --reference r.wav");
  EXPECT_EQ(other.status, 3);
  EXPECT_HAS(other.out, "the reference is not in this capture");
}

TEST_F(Program, AWrongSampleRateIsNamed) {
  good("make sweep --seconds 2 --rate 44100 -o s.wav --quiet");
  good("feed s.wav --through 'sim:sandpiper?rate=48000' -o c.wav --quiet");
  const Ran wrong = wavicon("health c.wav");
  EXPECT_EQ(wrong.status, 3);
  EXPECT_HAS(wrong.out, "a 44.1 kHz stimulus was played as 48 kHz");
}

TEST_F(Program, ACaptureIsJudgedAgainstTheStimulusThatIsNamed) {
  good("make tone --seconds 1 --rate 44100 -o t.wav --quiet");
  const AudioFile t = read_audio_file(file("t.wav"));
  Audio late(44100, 1, t.audio.frames() + 7000);
  std::copy(t.audio.channel(0).begin(), t.audio.channel(0).end(), late.channel(0).begin() + 4410);
  (void)write_audio_file(file("late.wav"), late, {});
  EXPECT_HAS(good("health late.wav --stimulus t.wav"), "the stimulus starts at 0.100000 s, +0.00 dB");
  EXPECT_HAS(good("health late.wav"), "give --stimulus to check it");
  EXPECT_HAS(good("harmonics late.wav --stimulus t.wav"), "part tone");
  EXPECT_HAS(good("harmonics late.wav"), "a tone of 997 Hz, -20.00 dBFS");
  Audio wrong(48000, 1, late.frames());
  std::copy(late.channel(0).begin(), late.channel(0).end(), wrong.channel(0).begin());
  (void)write_audio_file(file("wrong.wav"), wrong, {});
  const Ran played = wavicon("health wrong.wav --stimulus t.wav");
  EXPECT_EQ(played.status, 3);
  EXPECT_HAS(played.out,
             "fault: a 44.1 kHz stimulus was played as 48 kHz; set the session to the stimulus's rate");
  EXPECT_HAS(bad(3, "health late.wav --stimulus late.wav"),
             "late.wav: carries no recipe; a stimulus is a file made by 'wavicon make', or a recipe");
  EXPECT_HAS(bad(2, "health late.wav --stimulus t.wav --take 3"),
             "there is no take 3: the stimulus was found 1 time");
}

}  // namespace
}  // namespace wavicon::health_test
