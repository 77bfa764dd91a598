// SPDX-License-Identifier: MIT
#include "program.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::tones_test {
namespace {

using namespace testing;

class Tones : public Program {};

const char* const kRecipe =
    "sample_rate_hz = 48000\n[[part]]\nname = \"modulation\"\nkind = \"two_tone\"\npair = \"smpte\"\n"
    "[[part]]\nname = \"chord\"\nkind = \"multitone\"\n"
    "oscillators = [{frequency_hz = 331.0, level_dbfs = -20.0}, {frequency_hz = 1999.0, level_dbfs = "
    "-30.0}]\n"
    "[[part]]\nname = \"glide\"\nkind = \"multitone\"\n"
    "oscillators = [{frequency_hz = 331.0, to_hz = 661.0}, {frequency_hz = 1999.0}]\n"
    "[[part]]\nname = \"steps\"\nkind = \"staircase\"\nfrequencies_hz = [4999.0, 15013.0]\nlevels_dbfs = "
    "[-1.0]\n";

TEST_F(Tones, PairsAndChordsOfAStimulusAreMeasured) {
  write_text(file("r.toml"), kRecipe);
  good("make --recipe r.toml -o s.wav");
  good("feed s.wav --through 'sim:tern?drive=6&asymmetry=0.2&oversampling=8' -o c.wav");
  const std::string table = good("harmonics c.wav --plot p.svg");
  EXPECT_HAS(table, "by the modulation method");
  EXPECT_HAS(good("harmonics c.wav --all"), "f2 - 2·f1");
  EXPECT_HAS(read_text(file("p.svg")), "what they make of each other");
  const json chord = json::parse(good("harmonics c.wav --part chord --json"));
  EXPECT_EQ(chord["measurement"], "intermodulation");
  EXPECT_HAS(bad(2, "harmonics c.wav --part glide"), "changes while it plays");
  EXPECT_HAS(bad(2, "harmonics c.wav --part cord"), "did you mean 'chord'");
}

TEST_F(Tones, WhatAPathAddedIsToldFromWhatWentIn) {
  good("make tone --level -10 -o t.wav");
  good("feed t.wav --through 'sim:tern?drive=6' -o in.wav");
  good("feed in.wav --through 'sim:tern?drive=0' -o out.wav");
  const std::string table = good("harmonics out.wav --reference in.wav --plot p.png --draw period");
  EXPECT_HAS(table, "H3 added");
  EXPECT_HAS(table, "change of THD");
  const json same = json::parse(good("harmonics in.wav --reference in.wav --json"));
  for (const json& r : same["readings"]) {
    if (r["name"] == "thd_change_db") {
      EXPECT_EQ(r["value"], 0.0);
    }
  }
  good("make tone --frequency 331 --level -10 -o other.wav");
  EXPECT_HAS(bad(2, "harmonics out.wav --reference other.wav"), "not the same tone");
}

TEST_F(Tones, SeveralCapturesShareAPicture) {
  good("make tone --level -10 -o t.wav");
  for (const char* drive : {"0", "12"})
    good(std::string("feed t.wav --through 'sim:tern?drive=") + drive + "' -o d" + drive + ".wav");
  good("harmonics d0.wav d12.wav --plot spectra.svg");
  good("harmonics d0.wav d12.wav --draw period --plot periods.svg");
  for (const char* picture : {"spectra.svg", "periods.svg"}) {
    EXPECT_HAS(read_text(file(picture)), "d0.wav");
    EXPECT_HAS(read_text(file(picture)), "d12.wav");
  }
}

TEST_F(Tones, ALongCaptureIsLookedAtWhereItIsLoudest) {
  Audio audio(8000, 1, 100 * 8000);
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] =
        (n < 35 * 8000 ? 0.01 : 0.5) * (exact_sine(997, 8000, n) + 0.1 * exact_sine(1994, 8000, n));
  write_audio_file(file("long.wav"), audio, {});
  const std::string table = good("harmonics long.wav");
  EXPECT_HAS(table, "60 s from 35 s on were looked at");
  EXPECT_HAS(table, "997.000 Hz at -6.02 dBFS");
}

TEST_F(Tones, FoldBackIsReadFromStepsAndFromASweepMadeElsewhere) {
  write_text(file("r.toml"), kRecipe);
  good("make --recipe r.toml -o s.wav");
  good("feed s.wav --through 'sim:tern?drive=18' -o c.wav");
  EXPECT_HAS(good("aliasing c.wav"), "order 3 at 2961 Hz while the tone is at 15013 Hz, -18.86 dBc");
  // The setting that is enough is the first line, whatever order a shell gives the files in.
  good("make sweep --seconds 2 --level -1 -o sw.wav");
  good("feed sw.wav --through 'sim:tern?drive=12&oversampling=1,16,4' -o t.wav --quiet");
  std::string ladder;
  for (const std::string& name : folder_.names())
    if (name.rfind("t ", 0) == 0 || name.rfind("t-", 0) == 0) ladder += " '" + name + "'";
  const std::string answer = good("aliasing" + ladder + " --enough -60");
  EXPECT_HAS(answer.substr(0, answer.find('\n')), "oversampling-4 is enough for -60 dBc (-");
  EXPECT_HAS(answer.substr(0, answer.find(".wav:")), "oversampling-1 is not (-");
  // A bound of a sweep of two seconds above the level cannot tell.
  EXPECT_HAS(good("aliasing" + ladder + " --enough -80"),
             "of t-oversampling-16 it cannot be told (no product above");
  good("make sweep --no-marks --seconds 3 --level -1 -o foreign.wav");
  good(
      "feed foreign.wav --through 'sim:tern?drive=18' --through 'sim:heron?delay=333.3&noise=-200' -o f.wav");
  // The sweep has to be known from the reference alone.
  write_audio_file(file("f.wav"), read_audio_file(file("f.wav")).audio, {});
  write_audio_file(file("clean.wav"), read_audio_file(file("foreign.wav")).audio, {});
  const std::string table = good("aliasing f.wav --reference clean.wav");
  EXPECT_HAS(table, "an exponential sweep from 18.0");
  EXPECT_HAS(table, "worst fold-back: order 3");
  EXPECT_HAS(table, "-18.8");
  // Its own fundamental tells the course as well; noise tells none.
  EXPECT_HAS(good("aliasing f.wav"), "an exponential sweep from 18.0");
  good("make noise --no-marks -o n.wav");
  write_audio_file(file("noise.wav"), read_audio_file(file("n.wav")).audio, {});
  EXPECT_HAS(bad(2, "aliasing noise.wav"), "no part that is a sweep");
  EXPECT_HAS(bad(3, "aliasing f.wav --reference n.wav"), "does not hold the reference n.wav");
  EXPECT_HAS(bad(3, "aliasing f.wav --reference noise.wav"), "does not hold the reference noise.wav");
  good("feed n.wav --through sim:heron -o nb.wav");
  write_audio_file(file("nb.wav"), read_audio_file(file("nb.wav")).audio, {});
  EXPECT_HAS(bad(2, "aliasing nb.wav --reference n.wav"), "no part that is a sweep");
}

}  // namespace
}  // namespace wavicon::tones_test
