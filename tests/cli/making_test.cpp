// SPDX-License-Identifier: MIT
#include "program.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::making_test {
namespace {

using namespace testing;

TEST_F(Program, ThePassFromEndToEnd) {
  EXPECT_HAS(good("make tone --frequency 997 --level -13.5 --seconds 2 --rate 48000 --bits 24 -o t.wav"),
             "997 Hz at -13.5 dBFS, 2 s between marks (2.8 s in all), 48000 Hz, 1 channel, 24-bit");
  EXPECT_HAS(good("make tone --seconds 2 --no-marks -o u.wav"), "997 Hz at -20 dBFS, 2 s, 48000 Hz");
  EXPECT_HAS(good("feed t.wav --through 'lv2:urn:saltmarsh:tern?drive=12' -o c.wav"),
             "peak in -13.50 dBFS, out -13.63 dBFS");
  good("feed t.wav --through 'sim:tern?drive=12' -o d.wav");
  good(std::string("feed t.wav --through 'lv2:") + WAVICON_BUNDLES + "/tern.lv2?drive=12' -o b.wav");
  EXPECT_EQ(sound("c.wav") == sound("d.wav"), true);
  EXPECT_EQ(sound("c.wav") == sound("b.wav"), true);

  // arctan(A sin t) holds order k with 2·r^k/k.
  const double a = ratio_from_db(-13.5), r = (std::sqrt(1 + a * a) - 1) / a;
  const json c = readings("c.wav");
  EXPECT_NEAR(c["fundamental_hz"]["value"].get<double>(), 997, 997e-6);
  EXPECT_NEAR(c["fundamental_dbfs"]["value"].get<double>(), db_from_ratio(2 * r), 0.001);
  EXPECT_NEAR(c["h3_dbc"]["value"].get<double>(), db_from_ratio(std::pow(r, 2) / 3), 0.001);
  EXPECT_NEAR(c["h5_dbc"]["value"].get<double>(), db_from_ratio(std::pow(r, 4) / 5), 0.005);
  EXPECT_NEAR(c["h7_dbc"]["value"].get<double>(), db_from_ratio(std::pow(r, 6) / 7), 0.2);
  EXPECT_TRUE(c["h2_dbc"]["bound"].get<bool>());
  EXPECT_LT(c["h2_dbc"]["value"].get<double>(), -160);
  EXPECT_EQ(c["thd_db"]["channel"], 1);
  EXPECT_EQ(c["thd_n_db"]["conditions"]["bandwidth_hz"], json({20, 20000}));
  EXPECT_LT(c["h3_dbc"]["floor"].get<double>(), -180);
}

TEST_F(Program, TheSameCommandGivesTheSameBytes) {
  for (const char* name : {"a.wav", "b.wav"}) good(std::string("make tone --bits 16 --seed 5 -o ") + name);
  EXPECT_EQ(read_text(file("a.wav")), read_text(file("b.wav")));
  good("make tone --bits 16 --seed 6 -o c.wav");
  EXPECT_NE(read_text(file("a.wav")), read_text(file("c.wav")));
  EXPECT_EQ(good("harmonics a.wav --json"), good("harmonics a.wav --json"));
}

TEST_F(Program, MakeToneHonoursEveryOption) {
  good(
      "make tone --frequency 331 --level -6 --phase 90 --seconds 0.5 --fade-in 0.1 --fade-out 0.2 --rate "
      "96000 --channels 3 --bits 32 "
      "--silence-before 0.25 --silence-after 0.125 --no-marks -o a.aiff");
  const AudioFile a = read_audio_file(file("a.aiff"));
  EXPECT_EQ(a.info.container, "AIFF");
  EXPECT_EQ(a.info.format, SampleFormat::float32);
  EXPECT_EQ(a.audio.frames(), 96000 * 7 / 8);
  EXPECT_EQ(a.audio.channel_count(), 3);
  EXPECT_EQ(a.audio.channel(0)[23999], 0.0);
  EXPECT_EQ(a.audio.channel(2)[40000], a.audio.channel(0)[40000]);
  EXPECT_NEAR(peak(a.audio.channel(1)), ratio_from_db(-6), 1e-4);
  EXPECT_HAS(good("make tone --seconds 2 --on-bin -o b.flac"),
             "on bin: 997 Hz moved to 996.826171875 Hz, 1361 whole cycles in 65536 frames");
  EXPECT_HAS(good("make tone --on-bin 4096 -o b.flac"), "whole cycles in 4096 frames");
  EXPECT_HAS(good("make tone --bits 16 -o d.wav"), "16-bit, TPDF dither (seed 1)");
  EXPECT_EQ(good("make tone --bits 16 --no-dither -o d.wav").find("dither"), std::string::npos);
  EXPECT_EQ(good("make tone --quiet -o e.wav"), "");
}

TEST_F(Program, MakeRefusesWhatItCannotWrite) {
  EXPECT_HAS(bad(2, "make tone --level 3 -o a.wav"),
             "+3 dBFS would clip in 24-bit audio; make it 0 dBFS or lower, or write 32-bit float");
  EXPECT_HAS(bad(2, "make tone --rate 7000 -o a.wav"), "sample_rate_hz: 7000 is not within 8000 to 768000");
  EXPECT_HAS(bad(2, "make tone --frequency 24000 -o a.wav"), "below half the sample rate");
  EXPECT_HAS(bad(2, "make tone --seconds 0 -o a.wav"), "seconds: 0 is not within");
  EXPECT_HAS(bad(2, "make tone --frequency abc -o a.wav"), "abc");
  EXPECT_HAS(bad(2, "make tone --on-bin 1000 -o a.wav"), "power of two");
  EXPECT_HAS(bad(2, "make tone -o no/such/a.wav"), "the folder no/such does not exist");
  EXPECT_HAS(bad(2, "make tone -o a.xyz"), ".wav, .aif, .aiff or .flac");
  EXPECT_HAS(bad(2, "make tone --bits 32 -o a.flac"), "FLAC holds no 32-bit float");
  EXPECT_HAS(bad(2, "make tone -o /proc/a.wav"), "cannot be written");
  EXPECT_HAS(bad(2, "make tone"), "--output is required");
  EXPECT_HAS(bad(2, "make"), "A KIND or --recipe is required");
  EXPECT_HAS(bad(2, "mkae tone -o a.wav"), "did you mean 'make'?");
  const std::string commands = good("");
  EXPECT_HAS(commands, "1. make a signal");
  EXPECT_LT(commands.find("3. check what came back"), commands.find("\n  health "));
  EXPECT_HAS(bad(2, "helth x.wav"), "there is no command 'helth'; did you mean 'health'");
  EXPECT_HAS(bad(2, "nothing-like-it"), "'wavicon' alone shows them all");
}

TEST_F(Program, EveryKindIsMadeAndShown) {
  for (const char* kind : {"tone", "multitone", "two-tone", "sweep", "noise", "burst", "staircase", "block",
                           "impulse", "silence", "channel-numbers"}) {
    good(std::string("make ") + kind + " --channels 2 -o k.wav --save-recipe k.toml");
    const std::string shown = good("show k.wav --all");
    EXPECT_HAS(shown, "WAV, 24-bit, 48000 Hz, 2 channels");
    EXPECT_HAS(shown, "mark");
    EXPECT_HAS(shown, read_text(file("k.toml")));
    good("make --recipe k.toml -o again.wav");
    EXPECT_EQ(read_text(file("k.wav")), read_text(file("again.wav"))) << kind;
  }
  good("make multitone --frequencies 83,167,331 --levels -20,-26,-32 --no-marks -o m.flac");
  EXPECT_HAS(good("show m.flac --all"), "frequency_hz = 331.0, level_dbfs = -32.0");
  EXPECT_HAS(good("show m.flac --all"), "marks = false");
}

TEST_F(Program, ARecipeIsMadeAtSeveralRatesWithTheSameBytesEachTime) {
  good("make tone --seconds 0.1 --rates 44100,48000 -o made/here/ --quiet");
  EXPECT_TRUE(std::filesystem::exists(file("made/here/tone-44100.wav")));
  write_text(file("no-folder"), "x");
  EXPECT_HAS(bad(2, "make tone --seconds 0.1 --rates 44100,48000 -o no-folder/sub/ --quiet"),
             "cannot be made");
  std::filesystem::create_directory(file("out"));
  const std::string command = std::string("make --recipe '") + WAVICON_SOURCE_DIR +
                              "/data/booth-2-morning.toml' --rates 44100,96000 -o out/";
  good(command);
  const std::string first = read_text(file("out/booth-2-morning-44100.wav")),
                    second = read_text(file("out/booth-2-morning-96000.wav"));
  good(command);
  EXPECT_EQ(read_text(file("out/booth-2-morning-44100.wav")), first);
  EXPECT_EQ(read_text(file("out/booth-2-morning-96000.wav")), second);
  EXPECT_HAS(good("show out/booth-2-morning-96000.wav"), "voice fundamentals");
  EXPECT_HAS(good("feed out/booth-2-morning-44100.wav --through sim:tern -o c.aiff"), "peak in");
  EXPECT_HAS(good("show c.aiff"), "booth-2-morning") << "a capture knows what was fed in";
}

TEST_F(Program, BadRecipesAreAnsweredWithLineAndColumn) {
  write_text(file("r.toml"), "name = \"x\"\n[[part]]\nkind = \"tone\"\nlvel_dbfs = 3\n");
  EXPECT_HAS(bad(3, "make --recipe r.toml -o a.wav"),
             "r.toml:4:1: unknown key 'lvel_dbfs'; did you mean 'level_dbfs'?");
  EXPECT_HAS(bad(3, "make --recipe none.toml -o a.wav"), "none.toml: there is no such recipe");
  EXPECT_HAS(bad(2, "make sweep --from 100 --to 100 -o a.wav"), "from_hz and to_hz are the same");
  EXPECT_HAS(bad(2, "make multitone --frequencies 1,2 --levels -1,-2,-3 -o a.wav"),
             "3 values for 2 frequencies");
  good("make tone --quiet -o broken.wav");
  std::string bytes = read_text(file("broken.wav"));
  bytes.replace(bytes.find("kind = \"tone\""), 4, "kidn");
  write_text(file("broken.wav"), bytes);
  EXPECT_HAS(wavicon("show broken.wav").err, "broken.wav (the recipe inside):");
}

TEST_F(Program, SumsThatClipAreSaidWithTheLevel) {
  const Ran ran = wavicon("make multitone --frequencies 100,200,300 --levels -6 -o a.wav");
  EXPECT_EQ(ran.status, 0);
  EXPECT_HAS(ran.err, "dBFS (+1.96 dBTP):");
  EXPECT_HAS(ran.err, "were clipped by the 24-bit format");
  EXPECT_EQ(wavicon("make multitone --frequencies 100,200,300 --levels -6 --bits 32 -o a.wav").err, "");
}

}  // namespace
}  // namespace wavicon::making_test
