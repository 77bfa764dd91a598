// SPDX-License-Identifier: MIT
// null, latency, pair and takes as a user meets them.

#include <filesystem>

#include "program.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::against_test {
namespace {

using namespace testing;

class Against : public Program {
 protected:
  void SetUp() override {
    good("make programme --content chamber --seconds 6 --level -24 --no-marks -o a.wav");
  }
};

TEST_F(Against, NullSaysWhatIsLeft) {
  EXPECT_HAS(good("null a.wav a.wav"), "identical: every sample is the same, bit for bit.");
  good("feed a.wav --through 'sim:dunlin?delay=64' --bits 16 --dither -o b.wav");
  const json sheet = json::parse(good("null a.wav b.wav --json"));
  EXPECT_EQ(sheet["measurement"], "null");
  EXPECT_EQ(reading(sheet, "verdict")["value"], "rounding");
  EXPECT_EQ(reading(sheet, "delay_samples")["value"], 64.0);
  EXPECT_NEAR(reading(sheet, "gain_db")["value"].get<double>(), 0, 1e-3);
  EXPECT_EQ(reading(sheet, "polarity")["value"], 1.0);
  EXPECT_FALSE(reading(sheet, "null_depth_db")["floor"].is_null());
  EXPECT_HAS(reading(sheet, "verdict")["conditions"]["reason"].get<std::string>(), "16 bits");

  good("feed a.wav --through 'sim:dunlin?delay=3.5&gain=-2&invert=1&hum=-60' -o c.wav");
  const std::string table = good("null a.wav b.wav c.wav --plot n.svg --csv n.csv");
  EXPECT_HAS(table, "hum: ");
  EXPECT_HAS(table, "lines of 50.00 Hz");
  EXPECT_HAS(table, "its polarity is inverted");
  EXPECT_HAS(read_text(file("n.csv")), ",verdict,,hum,");
  EXPECT_HAS(read_text(file("n.svg")), ">c<");
  EXPECT_EQ(wavicon("null a.wav c.wav --quiet --limit 'null_depth_db<-100'").status, 1);
  for (const char* what : {"spectrum", "time", "depth", "response"})
    good(std::string("null a.wav c.wav --quiet --plot p.svg --draw ") + what);
}

TEST_F(Against, ResidualAndAlignedCopyAreFilesOnAsTime) {
  good("feed a.wav --through 'sim:dunlin?delay=100&gain=-6&noise=-60' -o b.wav");
  good("null a.wav b.wav --residual r.wav --residual-gain 20 --aligned m.wav --quiet");
  const AudioFile a = read_audio_file(file("a.wav")), m = read_audio_file(file("m.wav")),
                  r = read_audio_file(file("r.wav"));
  double worst = 0, left = 0;
  for (std::int64_t n = 0; n < m.audio.frames(); ++n) {
    const auto at = static_cast<std::size_t>(n);
    const double difference = a.audio.channel(0)[at] - m.audio.channel(0)[at];
    worst = std::max(worst, std::abs(10 * difference - r.audio.channel(0)[at]));
    left += difference * difference;
  }
  EXPECT_LT(worst, 1e-5) << "the residual is A less the copy, 20 dB up";
  EXPECT_NEAR(std::sqrt(left / static_cast<double>(m.audio.frames())), 2e-3, 2e-4)
      << "noise at -60 dBFS, 6 dB up";
}

TEST_F(Against, OfSeveralBEachHasAResidualOfItsOwn) {
  good("feed a.wav --through 'sim:dunlin?delay=100&noise=-60' -o b.wav");
  good("feed a.wav --through 'sim:dunlin?delay=30&noise=-40' -o c.wav");
  std::filesystem::create_directory(file("two"));
  std::filesystem::copy_file(file("c.wav"), file("two/b.wav"));
  good("null a.wav b.wav c.wav two/b.wav --residual left --aligned left --quiet");
  const auto level = [&](const char* name) {
    const Audio left = read_audio_file(file(name)).audio;
    double squares = 0;
    for (const double v : left.channel(0)) squares += v * v;
    return 10 * std::log10(squares / static_cast<double>(left.frames()));
  };
  EXPECT_NEAR(level("left/b-residual.wav"), -60, 0.3);
  EXPECT_NEAR(level("left/c-residual.wav"), -40, 0.3);
  EXPECT_NEAR(level("left/b-2-residual.wav"), -40, 0.3);
  EXPECT_GT(level("left/c-aligned.wav"), -35);
  EXPECT_EQ(std::distance(std::filesystem::directory_iterator(file("left")), {}), 6);
}

TEST_F(Against, RatesAreOnlyBroughtTogetherWhenAsked) {
  good("make programme --content chamber --seconds 6 --level -24 --no-marks --rate 44100 -o low.wav");
  EXPECT_HAS(bad(2, "null a.wav low.wav"), "--resample");
  EXPECT_HAS(good("null low.wav low.wav"), "identical");
  // The programme is made anew for each rate, so only what is said can be tested here.
  const Ran ran = wavicon("null a.wav low.wav --resample");
  EXPECT_TRUE(ran.status == 3 || ran.out.find("was resampled from 44100 to 48000 Hz") != std::string::npos)
      << ran.out << ran.err;
}

TEST_F(Against, BadPairsAreRefusedWithTheReason) {
  good("make programme --content voice --seconds 6 --no-marks -o other.wav");
  EXPECT_HAS(bad(3, "null a.wav other.wav"), "too little in common");
  EXPECT_HAS(bad(3, "latency a.wav other.wav"), "too little in common");
  EXPECT_HAS(bad(2, "null a.wav other.wav --as-is colour"), "there are: delay, drift, gain, polarity");
  EXPECT_HAS(bad(2, "null a.wav a.wav a.wav --residual a.wav"), "a.wav");
  EXPECT_HAS(bad(2, "pair a.wav"), "--channels 1,2");
  EXPECT_HAS(bad(2, "latency a.wav a.wav --reported 1,2"), "2 values for 1 captures");
  EXPECT_HAS(bad(3, "null a.wav missing.wav"), "missing.wav");
  good("make silence --seconds 6 --no-marks -o none.wav");
  EXPECT_HAS(bad(3, "null a.wav none.wav"), "the capture is silent");
  EXPECT_HAS(bad(3, "pair a.wav none.wav"), "the capture is silent");
  EXPECT_HAS(bad(3, "takes none.wav"), "silent");
}

TEST_F(Against, HeronsOffsetIsFoundOverBlockSizesAndRates) {
  for (const int rate : {48000, 96000}) {
    const std::string tone = "t" + std::to_string(rate) + ".wav";
    good("make tone --rate " + std::to_string(rate) + " -o " + tone);
    std::string captures, reported;
    for (const int block : {64, 128, 256, 512, 1024}) {
      const std::string name = "h" + std::to_string(block) + ".wav";
      good("feed " + tone +
           " --through 'sim:heron?delay=51.4&buffers=2&noise=-110' --keep-latency --tail 0.1 --block " +
           std::to_string(block) + " -o " + name);
      captures += " " + name;
      reported += (reported.empty() ? "" : ",") + std::to_string(2 * block);
      const json sheet = json::parse(
          good("latency " + tone + " " + name + " --json --reported " + std::to_string(2 * block)));
      EXPECT_NEAR(reading(sheet, "latency_samples")["value"].get<double>(), 2 * block + 51.4, 0.01)
          << rate << " " << block;
      EXPECT_NEAR(reading(sheet, "offset_samples")["value"].get<double>(), 51.4, 0.01);
    }
    const std::string table =
        good("latency " + tone + captures + " --reported " + reported + " --block-sizes 64,128,256,512,1024");
    EXPECT_HAS(table, "follows the block size: 2.00 × block + 51.40 samples");
    EXPECT_HAS(table, "shift recordings earlier by another 51 samples");
    good("latency " + tone + " h64.wav --quiet --plot l.svg");
  }
}

TEST_F(Against, TwoChannelsOfAFileAreAPair) {
  good("make programme --content voice --seconds 4 --channels 2 --no-marks -o s.wav");
  EXPECT_HAS(good("pair s.wav"), "B is as loud as A; correlation 1.000");
  good("feed a.wav --through 'sim:dunlin?delay=5&gain=-3' -o b.wav");
  const json sheet = json::parse(good("pair a.wav b.wav --json"));
  EXPECT_NEAR(reading(sheet, "level_difference_db")["value"].get<double>(), -3, 0.01);
  EXPECT_NEAR(reading(sheet, "time_offset_samples")["value"].get<double>(), 5, 0.01);
  for (const char* what : {"overview", "spectrum", "mid-side", "levels", "loudness"})
    good(std::string("pair a.wav b.wav --quiet --plot p.svg --draw ") + what);
}

TEST_F(Against, ResponseOfAvocetIsItsCurve) {
  good("make sweep --seconds 3 --level -12 -o s.wav");
  good("feed s.wav --through 'sim:avocet?cut=4&cut_hz=80' -o cut.wav");
  good("feed s.wav --through 'sim:avocet?bell=6&lift=0.5' -o bell.wav");
  EXPECT_HAS(good("response s.wav cut.wav"), "4 poles");
  const std::string table = good("response s.wav cut.wav bell.wav --plot r.svg");
  EXPECT_HAS(table, "lower edge");
  EXPECT_HAS(read_text(file("r.svg")), ">bell<");
  const json sheet = json::parse(good("response s.wav bell.wav --json --at 100"));
  EXPECT_NEAR(reading(sheet, "gain_db")["value"].get<double>(), 3, 0.01)
      << "half of the bell lifts everything";
  for (const char* what : {"phase", "group-delay", "impulse"})
    good(std::string("response s.wav cut.wav --quiet --plot p.svg --draw ") + what);
  good("make noise --colour pink --seconds 5 --no-marks -o n.wav");
  good("feed n.wav --through 'sim:avocet?level=-2' -o nl.wav");
  EXPECT_HAS(good("response n.wav nl.wav --draw coherence --plot c.svg"),
             "-2.00 dB at 1000 Hz, -2.00 dB overall; flat");
  EXPECT_HAS(bad(2, "response s.wav cut.wav --part swep"), "no part 'swep'");
}

TEST_F(Against, NoiseThatRepeatsGivesTheFilterFromOneSettingToAnother) {
  good("make noise --colour pink --period 1.4 --seconds 5 -o n.wav");
  write_text(file("cue.toml"),
             "sample_rate_hz = 48000\nbits = 32\n[[part]]\nkind = \"programme\"\ncontent = "
             "\"chamber\"\nseconds = 6\n");
  good("make --recipe cue.toml -o cue.wav");
  for (const auto& [name, setting] :
       {std::pair{"one", "bell=6&bell_hz=3000&lift=0.25"}, {"two", "shelf=-4&cut=1&cut_hz=60"}})
    for (const std::string signal : {"n", "cue"})
      good("feed " + signal + ".wav --through 'sim:avocet?" + setting + "' -o " + signal + "-" + name +
           ".wav");
  const json both =
      json::parse(good("response n.wav n-one.wav n-two.wav --difference --filter m.wav --json"));
  EXPECT_EQ(reading(both[0], "gain_db")["conditions"]["by"], "periods of noise");
  EXPECT_EQ(reading(both[0], "gain_db")["conditions"]["periods"], 2);
  EXPECT_LT(reading(both[1], "difference_max_db")["value"].get<double>(), -5);
  const json plain = json::parse(good("null cue-one.wav cue-two.wav --json")),
             matched =
                 json::parse(good("null cue-one.wav cue-two.wav --filter m.wav --band 40 20000 --json"));
  EXPECT_GT(reading(plain, "null_depth_db")["value"].get<double>(), -25);
  EXPECT_LT(reading(matched, "null_depth_db")["value"].get<double>(), -75);
  EXPECT_HAS(good("null cue-one.wav cue-two.wav --filter m.wav --band 40 20000"),
             "A went through m.wav (24000 taps)");

  const json bands = json::parse(good("spectrum n-two.wav --stimulus n.wav --bands 3 --json"));
  const json& band = reading(bands, "band_dbfs");
  EXPECT_EQ(band["conditions"]["periods"], 2);
  EXPECT_LT(band["conditions"]["spread_db"].get<double>(), 0.001);

  EXPECT_HAS(bad(2, "response n.wav n-one.wav --filter m2.wav"), "response A B1 B2 --filter");
  good("make --recipe cue.toml --rates 96000 -o .");
  EXPECT_HAS(bad(2, "null stimulus-96000.wav stimulus-96000.wav --filter m.wav"), "made for 48000 Hz");
  good("make noise --colour pink --seconds 5 -o g.wav");
  good("feed g.wav --through sim:avocet -o g-one.wav");
  EXPECT_HAS(bad(2, "response g.wav g-one.wav g-one.wav --filter m2.wav"), "noise with a period");
  EXPECT_FALSE(std::filesystem::exists(file("m2.wav")));
}

TEST_F(Against, VerboseSaysWhatTheFilesAreOnStandardError) {
  good("make tone --seconds 1 -o t.wav");
  const auto ran = wavicon("null t.wav t.wav --verbose --json");
  EXPECT_EQ(ran.status, 0);
  EXPECT_HAS(
      ran.err,
      "t.wav: WAV, 24-bit, 48000 Hz, 1 channel, 1.800 s; carries the recipe 'tone': 1 part between marks");
  EXPECT_HAS(ran.err, "null measured in ");
  EXPECT_FALSE(json::parse(ran.out)["readings"].empty());
  EXPECT_EQ(wavicon("null t.wav t.wav").err, "");
}

TEST_F(Against, LowNoiseIsNoDcOffsetAndAnEqualiserCutsNothingOff) {
  good("make noise --colour pink --seconds 5 --no-marks -o n.wav");
  EXPECT_EQ(good("health n.wav").find("DC offset"), std::string::npos);
  EXPECT_EQ(good("spectrum n.wav").find("DC offset"), std::string::npos);
  good("feed n.wav --through 'sim:avocet?bell=6&bell_hz=3000' -o e.wav");
  EXPECT_EQ(good("health e.wav --reference n.wav").find("cut off"), std::string::npos);
  good("make silence --seconds 1 --no-marks -o s.wav");
  good("feed s.wav --through 'sim:heron?dc=0.001&noise=-90' -o d.wav");
  EXPECT_HAS(good("health d.wav"), "DC offset");
}

TEST_F(Against, TakesOfSeveralFilesAreWrittenAtOneLoudness) {
  good("make programme --content voice --seconds 3 --level -24 --no-marks -o one.wav");
  good("feed one.wav --through 'sim:dunlin?gain=-9&noise=-80' --tail 2 -o far.wav");
  good("feed one.wav --through 'sim:dunlin?noise=-80' --tail 2 -o near.wav");
  const std::string table = good("takes near.wav far.wav --gap 1.5 --write out --plot t.svg");
  EXPECT_HAS(table, "2 takes");
  const json sheet = json::parse(good("takes near.wav far.wav --gap 1.5 --json"));
  for (const json& r : sheet["readings"]) {
    if (r["name"] == "gain_db" && r["conditions"]["take"] == 2) {
      EXPECT_NEAR(r["value"].get<double>(), 9, 0.1);
    }
  }
  const json both = json::parse(good("levels out/take-1.wav out/take-2.wav --json"));
  EXPECT_NEAR(reading(both[0], "loudness_integrated_lufs")["value"].get<double>(),
              reading(both[1], "loudness_integrated_lufs")["value"].get<double>(), 0.1);
}

// One staircase and one block, a second apart.
void make_levels_and_block(const std::string& path) {
  write_text(path, R"(name = "press"
sample_rate_hz = 48000
bits = 24
[[part]]
kind = "staircase"
levels_dbfs = [-40, -30, -24, -21, -19, -16, -12, -8, -4]
step_s = 0.4
[[part]]
kind = "block"
silence_before_s = 0.6
low_dbfs = -30
high_dbfs = -6
after_s = 1.2
)");
}

TEST_F(Against, DynamicsTellPloversDetectorsAndItsPanel) {
  make_levels_and_block(file("press.toml"));
  good("make --recipe press.toml -o press.wav");
  for (const char* detector : {"peak", "rms"})
    good(std::string("feed press.wav --quiet --through 'sim:plover?attack=10&release=100&detector=") +
         detector + "' -o " + detector + ".wav");
  const std::string text =
      good("dynamics press.wav peak.wav rms.wav --panel-attack 10 --plot d.png --draw gain");
  EXPECT_HAS(text, "peak.wav: compressor: threshold -20.0 dBFS, ratio 4");
  EXPECT_HAS(text, "the panel's attack of 10 ms = 10.1 ms to 63 %");
  EXPECT_HAS(text, "what a plain peak compressor does at 10.0 ms (997 Hz");
  EXPECT_HAS(good("dynamics press.wav peak.wav"), "it hears the peak: gain in dB");
  EXPECT_HAS(good("dynamics press.wav rms.wav"), "it hears the mean square (rms): mean square with ");
  EXPECT_HAS(text, "times the panel's");
  for (const char* draw : {"static", "attack", "release"})
    good(std::string("dynamics press.wav peak.wav rms.wav --quiet --plot p.png --draw ") + draw);
  const json sheet = json::parse(good("dynamics press.wav rms.wav --json"));
  bool told = false;
  for (const json& r : sheet["readings"]) told |= r["name"] == "detector" && r["value"] == "rms";
  EXPECT_TRUE(told) << sheet["readings"];
  EXPECT_EQ(wavicon("dynamics press.wav peak.wav --quiet --limit 'attack_63_ms<5'").status, 1);
  good("make tone --seconds 1 --marks -o t.wav");
  bad(3, "dynamics t.wav peak.wav");
  EXPECT_HAS(bad(3, "dynamics press.wav t.wav"), "t.wav: ");
  good("make noise --no-marks -o n.wav");
  EXPECT_HAS(bad(3, "dynamics n.wav peak.wav"), "no steps of tone, block or sweep was recognised");
}

// Another unit is the ruler: at which value of its panel it is as fast.
TEST_F(Against, DynamicsSayWhatAnotherUnitWouldBeSetTo) {
  make_levels_and_block(file("press.toml"));
  good("make --recipe press.toml -o press.wav");
  const auto feed = [&](const std::string& settings, const std::string& name) {
    good("feed press.wav --quiet --through 'sim:plover?" + settings + "' -o " + name);
  };
  for (const char* ms : {"5", "10", "20", "50"})
    feed(std::string("release=100&attack=") + ms, std::string("plover-attack-") + ms + ".wav");
  feed("release=100&attack=12", "unit.wav");
  feed("release=100&attack=2", "fast.wav");
  const std::string ladder = " --like plover-attack-20.wav plover-attack-5.wav plover-attack-10.wav";
  const std::string text =
      good("dynamics press.wav unit.wav fast.wav --panel-attack 12,8" + ladder + " plover-attack-50.wav");
  EXPECT_HAS(text, "  attack: as fast as plover at 12 ms ± ");
  EXPECT_HAS(text, "between its 10 and 20 ms");
  EXPECT_HAS(text, "the panel's attack of 12 ms = ");
  EXPECT_HAS(text, "the panel's attack of 8 ms = ");
  EXPECT_HAS(text, "attack: faster than plover at 5 ms, the fastest of its captures");
  EXPECT_EQ(text.find("release: as fast as"), std::string::npos) << text;  // the same everywhere
  const json sheet = json::parse(good("dynamics press.wav unit.wav --json" + ladder));
  const json like = reading(sheet, "attack_like_ms");
  EXPECT_NEAR(like["value"], 12, like["uncertainty"].get<double>());
  EXPECT_LT(like["uncertainty"], 1.0);
  EXPECT_EQ(like["conditions"]["like"], "plover");
  // Names that say nothing need --like-panel; a ladder of nothing is no ladder.
  EXPECT_HAS(bad(2, "dynamics press.wav unit.wav --like fast.wav plover-attack-20.wav"), "--like-panel");
  good("dynamics press.wav unit.wav --like fast.wav plover-attack-20.wav --like-panel 2,20");
  EXPECT_HAS(bad(2, "dynamics press.wav unit.wav --like fast.wav"), "at least two");
  EXPECT_HAS(bad(2, "dynamics press.wav unit.wav --panel-attack 5,10"), "2 values for 1 capture");
  EXPECT_HAS(good("dynamics press.wav unit.wav --like unit.wav fast.wav --like-panel 5,10"),
             "not compared with ");
}

// Cables and takes: every pair in one grid, and folders of the same takes.
TEST_F(Against, NullComparesAllPairsAndFolders) {
  good("make noise --seconds 2 --level -20 --no-marks -o one.wav");
  good("make noise --seconds 2 --level -20 --no-marks --noise-seed 9 -o hiss.wav");
  for (const char* name : {"first", "second"}) {
    std::filesystem::create_directory(file(name));
    good(std::string("feed one.wav --quiet --bits 24 --through 'sim:avocet?bell=0.5' -o ") + name +
         "/voice.wav");
  }
  std::filesystem::create_directory(file("clean"));
  good("feed one.wav --quiet --bits 24 --through 'sim:dunlin' -o clean/voice.wav");
  const std::string text = good("null first/voice.wav second/voice.wav clean/voice.wav hiss.wav --all-pairs");
  EXPECT_HAS(text, "1 of 3 pairs differ by no more than noise or rounding; most alike: first/voice.wav and ");
  EXPECT_HAS(text, "; 3 cannot be compared");
  EXPECT_HAS(text, "hiss.wav: warning: not compared with clean/voice.wav: ");
  EXPECT_HAS(text, "not compared");
  EXPECT_HAS(text, "linear");
  const json sheets =
      json::parse(good("null first/voice.wav second/voice.wav clean/voice.wav --all-pairs --json"));
  ASSERT_EQ(sheets.size(), 3U);
  EXPECT_EQ(reading(sheets[0], "verdict")["value"], "identical");
  EXPECT_EQ(reading(sheets[2], "verdict")["value"], "linear");
  const std::string folders = good("null first second clean");
  EXPECT_HAS(folders, "A / B  second     clean\n");
  EXPECT_HAS(folders, "voice");
  EXPECT_HAS(folders, "identical");
  good("feed one.wav --quiet --bits 24 --through 'sim:dunlin' -o first/drums.wav");
  EXPECT_HAS(bad(3, "null first second"), "there is no 'drums' in it");
  bad(3, "null one.wav hiss.wav --all-pairs");
}

TEST_F(Against, StandInsAndTheirPluginsAreTheSame) {
  good("make noise --seconds 1 --level -12 -o n.wav");
  for (const auto& [name, settings] :
       {std::pair{"plover",
                  "?threshold=-30&ratio=3&knee=4.3&attack=2.7&release=33&release2=210&detector=rms"},
        std::pair{"plover", "?threshold=-30&ratio=8&attack=0.3"},
        std::pair{"avocet", "?cut=3&bell=4.7&bell_hz=2100&q=1.3&shelf=-3.1&lift=0.2"}}) {
    good(std::string("feed n.wav --quiet --through 'sim:") + name + settings + "' -o a.wav");
    good(std::string("feed n.wav --quiet --block 333 --through 'lv2:") + WAVICON_BUNDLES + "/" + name +
         ".lv2" + settings + "' -o b.wav");
    EXPECT_EQ(sound("a.wav") == sound("b.wav"), true) << name << settings;
  }
}

TEST_F(Against, AHitIsRefusedInItsOwnWords) {
  good(
      "make burst --frequency 997 --on 0.02 --count 1 --no-marks --silence-before 0.1 --silence-after 0.2 -o "
      "a.wav --quiet");
  good("make noise --seconds 0.05 --no-marks --silence-before 0.1 --silence-after 0.2 -o b.wav --quiet");
  const std::string said = bad(3, "latency a.wav b.wav");
  EXPECT_HAS(said, "A is one hit, and the best match in B is ");
  EXPECT_HAS(said, "where 92 % are needed");
  EXPECT_HAS(good("latency a.wav a.wav"),
             "B comes 0.00 samples (0.000 ms) after A; one hit, which matches to 100.0 %");
}

}  // namespace
}  // namespace wavicon::against_test
