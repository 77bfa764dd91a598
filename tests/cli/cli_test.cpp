// The program as a user meets it: commands, what they print, exit statuses, files left behind.

#include <map>
#include <nlohmann/json.hpp>

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon {
namespace {

using nlohmann::json;
using testing::Ran;
using testing::read_text;
using testing::TemporaryFolder;
using testing::write_text;

class Program : public ::testing::Test {
 protected:
  TemporaryFolder folder_;

  // Arguments after the program's name; the program runs in the test's folder and sees no plugins of the
  // system.
  Ran wavicon(const std::string& arguments) const {
    return testing::run("cd '" + folder_.path().string() + "' && LV2_PATH=/nowhere '" + WAVICON_PROGRAM +
                        "' " + arguments);
  }
  std::string good(const std::string& arguments) const {
    const Ran ran = wavicon(arguments);
    EXPECT_EQ(ran.status, 0) << arguments << "\n" << ran.err;
    return ran.out;
  }
  // One line on standard error, nothing on standard output, no new file.
  std::string bad(int status, const std::string& arguments) const {
    const auto before = folder_.names();
    const Ran ran = wavicon(arguments);
    EXPECT_EQ(ran.status, status) << arguments << "\n" << ran.out << ran.err;
    EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << arguments << "\n" << ran.err;
    EXPECT_EQ(ran.err.rfind("wavicon: ", 0), 0U) << ran.err;
    EXPECT_EQ(ran.out, "") << arguments;
    EXPECT_EQ(folder_.names().size(), before.size()) << arguments;
    return ran.err;
  }
  json readings(const std::string& arguments) const {
    const json sheet = json::parse(good("harmonics --json " + arguments));
    json by_name;
    for (const json& reading : sheet["readings"]) by_name[reading["name"].get<std::string>()] = reading;
    return by_name;
  }
  std::string file(const std::string& name) const { return folder_.file(name); }
};

#define EXPECT_HAS(text, part) EXPECT_NE((text).find(part), std::string::npos) << (text)

TEST_F(Program, ThePassFromEndToEnd) {
  EXPECT_HAS(good("make tone --frequency 997 --level -13.5 --seconds 2 --rate 48000 --bits 24 -o t.wav"),
             "997 Hz at -13.5 dBFS, 2 s between marks (2.8 s in all), 48000 Hz, 1 channel, 24-bit");
  EXPECT_HAS(good("make tone --seconds 2 --no-marks -o u.wav"), "997 Hz at -20 dBFS, 2 s, 48000 Hz");
  EXPECT_HAS(good("feed t.wav --through 'lv2:urn:saltmarsh:tern?drive=12' -o c.wav"),
             "peak in -13.50 dBFS, out -13.63 dBFS");
  good("feed t.wav --through 'sim:tern?drive=12' -o d.wav");
  good(std::string("feed t.wav --through 'lv2:") + WAVICON_TERN_BUNDLE + "?drive=12' -o b.wav");
  EXPECT_EQ(read_text(file("c.wav")), read_text(file("d.wav")));
  EXPECT_EQ(read_text(file("c.wav")), read_text(file("b.wav")));

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
  EXPECT_HAS(bad(2, "mkae tone -o a.wav"), "wavicon --help");
  EXPECT_HAS(bad(2, ""), "subcommand");
}

TEST_F(Program, EveryKindIsMadeAndShown) {
  for (const char* kind : {"tone", "multitone", "two-tone", "sweep", "noise", "burst", "staircase", "block",
                           "impulse", "silence", "channel-numbers"}) {
    good(std::string("make ") + kind + " --channels 2 -o k.wav --save-recipe k.toml");
    const std::string shown = good("show k.wav");
    EXPECT_HAS(shown, "WAV, 24-bit, 48000 Hz, 2 channels");
    EXPECT_HAS(shown, "mark");
    EXPECT_HAS(shown, read_text(file("k.toml")));
    good("make --recipe k.toml -o again.wav");
    EXPECT_EQ(read_text(file("k.wav")), read_text(file("again.wav"))) << kind;
  }
  good("make multitone --frequencies 83,167,331 --levels -20,-26,-32 --no-marks -o m.flac");
  EXPECT_HAS(good("show m.flac"), "frequency_hz = 331.0, level_dbfs = -32.0");
  EXPECT_HAS(good("show m.flac"), "marks = false");
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

TEST_F(Program, UnitsAreListedAndShown) {
  const std::string all = good("units");
  EXPECT_HAS(all, "sim:tern");
  EXPECT_HAS(all, "lv2:urn:saltmarsh:tern");
  const std::string tern = good("units lv2:urn:saltmarsh:tern");
  EXPECT_HAS(tern, "0 to 36");
  EXPECT_HAS(tern, "1, 2, 4, 8, 16");
  EXPECT_HAS(bad(2, "units sim:turn"), "did you mean 'tern'");
}

TEST_F(Program, FeedTellsWhatHappened) {
  good("make tone --level 0 --seconds 1 --no-marks -o t.wav");
  const Ran clipped = wavicon("feed t.wav --through 'sim:tern?output=6' --bits 24 -o c.wav");
  EXPECT_EQ(clipped.status, 0);
  EXPECT_HAS(clipped.err, "were clipped by the capture's own format (24-bit), first at");
  EXPECT_HAS(good("feed t.wav --through sim:tern?oversampling=2 --through sim:tern?oversampling=4 -o c.wav"),
             "256 frames of latency reported, taken off");
  EXPECT_EQ(read_audio_file(file("c.wav")).audio.frames(), 48000);
  good("feed t.wav --through sim:tern?oversampling=2 --keep-latency --tail 0.5 --block 64 -o c.flac");
  EXPECT_EQ(read_audio_file(file("c.flac")).audio.frames(), 72128);
  EXPECT_EQ(read_audio_file(file("c.flac")).info.format, SampleFormat::pcm24);
}

TEST_F(Program, FeedRefusesBadInput) {
  good("make tone --seconds 0.1 -o t.wav");
  EXPECT_HAS(bad(3, "feed none.wav --through sim:tern -o c.wav"), "none.wav: there is no such file");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:turn -o c.wav"), "did you mean 'tern'");
  EXPECT_HAS(bad(2, "feed t.wav --through 'sim:tern?drive=99' -o c.wav"), "0 to 36 dB");
  EXPECT_HAS(bad(2, "feed t.wav --through 'sim:tern?gain=3' -o c.wav"), "has no setting 'gain'");
  EXPECT_HAS(bad(2, "feed t.wav --through lv2:urn:nobody -o c.wav"), "there is no LV2 plugin 'urn:nobody'");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:tern -o t.wav"), "it is also the input");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:tern -o no/c.wav"), "does not exist");
  EXPECT_HAS(bad(2, "feed t.wav -o c.wav"), "--through is required");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:tern --block 0 -o c.wav"), "1 to 65536");
  const std::string bundle = std::string("'lv2:") + WAVICON_TEST_BUNDLES;
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/test.lv2:needs-the-moon' -o c.wav"),
             "requires urn:wavicon-test:moon");
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/test.lv2:writes-nan' -o c.wav"),
             "not-a-number into channel 1 at frame 1000");
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/test.lv2:refuses-to-start' -o c.wav"),
             "refused to start");
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/no-binary.lv2' -o c.wav"), "cannot be loaded");
}

TEST_F(Program, HarmonicsKeepsAndBreaksLimits) {
  good("make tone --seconds 2 --level -13.5 -o t.wav");
  good("feed t.wav --through sim:tern?drive=12 -o c.wav");
  EXPECT_EQ(wavicon("harmonics t.wav --limit 'thd_db<-120'").status, 0);
  const Ran broken = wavicon("harmonics c.wav --limit 'thd_db<-120' --limit 'sinad_db>40'");
  EXPECT_EQ(broken.status, 1);
  EXPECT_HAS(broken.out, "limit thd_db<-120, channel 1: not kept (-48.77 dB)");
  EXPECT_HAS(broken.out, "limit sinad_db>40, channel 1: kept");
  EXPECT_EQ(wavicon("harmonics t.wav --limit 'thd_db<-300'").status, 1)
      << "a bound above the limit proves nothing";
  EXPECT_EQ(wavicon("harmonics c.wav --json --limit 'thd_db<-120'").status, 1);
  EXPECT_HAS(bad(2, "harmonics t.wav --limit 'tdh_db<-120'"), "did you mean 'thd_db'");
  EXPECT_HAS(bad(2, "harmonics t.wav --limit 'thd_db'"), "for example 'thd_db<-80'");
}

TEST_F(Program, HarmonicsWritesEveryOutput) {
  good("make tone --seconds 0.5 --channels 2 --bits 32 -o t.wav");
  const std::string table = good("harmonics t.wav --sheet s.json --csv s.csv --plot s.png");
  EXPECT_HAS(table, "t.wav, channel 2: 997.000 Hz at -20.00 dBFS: no harmonic stands out of the noise");
  EXPECT_HAS(table, "thd_n_db");
  EXPECT_EQ(read_text(file("s.json")), good("harmonics t.wav --json"));
  EXPECT_EQ(json::parse(read_text(file("s.json")))["format"], "wavicon-sheet");
  EXPECT_HAS(read_text(file("s.csv")), "t.wav,harmonics,thd_db,2,");
  EXPECT_EQ(read_text(file("s.png")).substr(1, 3), "PNG");
  good("harmonics t.wav --plot s.svg --quiet");
  EXPECT_HAS(read_text(file("s.svg")), "<svg");
  const json two = json::parse(good("harmonics t.wav t.wav --json"));
  ASSERT_TRUE(two.is_array());
  EXPECT_EQ(two.size(), 2U);
  const json one = json::parse(good("harmonics t.wav --channel 2 --json"));
  EXPECT_EQ(one["readings"][0]["channel"], 2);
  EXPECT_HAS(bad(2, "harmonics t.wav --channel 3"), "there is no channel 3, it has 2");
  EXPECT_HAS(bad(2, "harmonics t.wav --plot s.jpg"), ".png or .svg");
  EXPECT_HAS(bad(2, "harmonics t.wav --sheet no/s.json"), "does not exist");
  EXPECT_HAS(bad(2, "harmonics t.wav --sheet t.wav"), "also the input");
  EXPECT_HAS(bad(2, "harmonics t.wav --rms-reference triangle"), "triangle");
}

TEST_F(Program, HarmonicsOptionsReachTheMeasurement) {
  good("make tone --frequency 331 --seconds 1 --level -6 --no-marks -o t.wav");
  EXPECT_EQ(readings("t.wav --orders 3").count("h4_dbc"), 0U);
  EXPECT_EQ(readings("t.wav --band 100 5000")["sinad_db"]["conditions"]["bandwidth_hz"], json({100, 5000}));
  EXPECT_NEAR(readings("t.wav --from 0.25 --to 0.75")["thd_db"]["conditions"]["duration_s"].get<double>(),
              0.5, 1e-9);
  EXPECT_NEAR(readings("t.wav --rms-reference sine")["residual_noise_dbfs"]["value"].get<double>() -
                  readings("t.wav")["residual_noise_dbfs"]["value"].get<double>(),
              3.0103, 1e-4);
  EXPECT_NEAR(readings("t.wav --tone 330")["fundamental_hz"]["value"].get<double>(), 331, 1e-3);
  EXPECT_HAS(bad(3, "harmonics t.wav --tone 2000"), "no steady tone stands out of the noise near 2000 Hz");
}

TEST_F(Program, HarmonicsRefusesBadInput) {
  Audio silence(48000, 1, 48000), broken(48000, 1, 48000), noise(48000, 1, 48000);
  for (std::size_t n = 0; n < 48000; ++n) noise.channel(0)[n] = 0.1 * random_triangular(1, 0, n);
  broken.channel(0)[100] = NAN;
  (void)write_audio_file(file("silence.wav"), silence, {});
  (void)write_audio_file(file("nan.wav"), broken, {.format = SampleFormat::float32});
  broken.channel(0)[100] = INFINITY;
  (void)write_audio_file(file("inf.wav"), broken, {.format = SampleFormat::float32});
  (void)write_audio_file(file("noise.wav"), noise, {});
  (void)write_audio_file(file("zero.wav"), Audio(48000, 1, 0), {});
  write_text(file("empty.wav"), "");
  write_text(file("text.wav"), "not audio at all\n");
  good("make tone -o t.wav");
  write_text(file("cut.wav"), read_text(file("t.wav")).substr(0, 100000));
  EXPECT_HAS(bad(3, "harmonics none.wav"), "none.wav: there is no such file");
  EXPECT_HAS(bad(3, "harmonics ."), "is a folder");
  EXPECT_HAS(bad(3, "harmonics empty.wav"), "empty");
  EXPECT_HAS(bad(3, "harmonics text.wav"), "cannot be read as audio");
  EXPECT_HAS(bad(3, "harmonics cut.wav"), "cut.wav: is cut off: its header announces");
  EXPECT_HAS(bad(3, "harmonics zero.wav"), "zero.wav: there is no audio in it: 0 frames");
  EXPECT_HAS(bad(3, "harmonics silence.wav"), "silence.wav: unfit to be measured: the capture is silent");
  EXPECT_HAS(bad(3, "harmonics nan.wav"), "nan.wav: channel 1 holds not-a-number at frame 100");
  EXPECT_HAS(bad(3, "harmonics inf.wav"), "an infinite value at frame 100");
  EXPECT_HAS(bad(3, "harmonics noise.wav"), "no steady tone");
  EXPECT_HAS(bad(3, "harmonics t.wav silence.wav --sheet s.json"), "silence.wav");
}

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
             "the stimulus has no tone part 'nonsense'; there are: alignment, tone over room noise");
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

TEST_F(Program, AStaircaseIsClimbedStepByStep) {
  good("make staircase --levels -50,-40,-30,-20 --step 0.5 -o s.wav --quiet");
  good("feed s.wav --through 'sim:tern?drive=12&asymmetry=0.3' -o c.wav --quiet");
  const std::string table = good("harmonics c.wav --plot l.png");
  EXPECT_HAS(table, "997 Hz, -30 dBFS");
  EXPECT_HAS(table, "h2_growth_db_per_db");
  EXPECT_EQ(read_text(file("l.png")).substr(1, 3), "PNG");
  const json sheets = json::parse(good("harmonics c.wav --json"));
  ASSERT_EQ(sheets.size(), 5U);
  EXPECT_EQ(sheets[4]["measurement"], "harmonics ladder");
  // A weak curvature of order k grows by k dB for each dB.
  EXPECT_NEAR(sheets[4]["readings"][0]["value"].get<double>(), 2, 0.02);
  EXPECT_NEAR(sheets[4]["readings"][1]["value"].get<double>(), 3, 0.1);
  EXPECT_EQ(wavicon("harmonics c.wav --quiet --limit 'thd_db<-40'").status, 1);
  EXPECT_EQ(wavicon("harmonics c.wav --quiet --limit 'thd_db<-30'").status, 0);
}

TEST_F(Program, NoiseIsReadInSilenceAndUnderATone) {
  good("make silence --seconds 3 -o s.wav --quiet");
  good("make tone --level -1 --seconds 3 -o t.wav --quiet");
  good("feed s.wav --through 'sim:heron?noise=-90' -o a.wav --quiet");
  good("feed t.wav --through 'sim:heron?noise=-90&gain=-1' -o b.wav --quiet");
  const std::string both = good("noise a.wav b.wav --plot n.png");
  EXPECT_HAS(both, "-90.8");
  EXPECT_HAS(both, "quietest first:");
  const json sheet = json::parse(good("noise b.wav --json --calibrate 0dBFS=2Vrms"));
  EXPECT_NEAR(sheet["readings"][0]["value"].get<double>(), -90.797, 0.1);
  EXPECT_EQ(sheet["readings"][0]["conditions"]["part"], "tone");
  EXPECT_HAS(sheet["readings"][0]["conditions"]["under"].get<std::string>(),
             "a tone of 997.00 Hz at -2.00 dBFS");
  good(
      "feed s.wav --through 'sim:heron?noise=-90&delay=0' --through 'sim:curlew?bits=16&rate=48000' -o i.wav "
      "--quiet");
  EXPECT_HAS(good("noise i.wav"), "1 other line, the strongest -50.0 dBFS at 19800.0 Hz; counted as noise");
  EXPECT_HAS(bad(2, "noise a.wav --calibrate 2V"), "0dBFS=2.45Vrms");
  EXPECT_HAS(bad(2, "noise a.wav --band 5 2"), "is empty");
  EXPECT_EQ(wavicon("noise a.wav --limit 'noise_dbfs<-100' --quiet").status, 1);
}

TEST_F(Program, SpectraAreListedAndOverlaid) {
  good("make tone --frequency 7001 --level -6 --seconds 2 -o t.wav --quiet");
  good("feed t.wav --through 'sim:tern?drive=18' -o a.wav --quiet");
  good("feed t.wav --through 'sim:tern?drive=18&oversampling=8' -o b.wav --quiet");
  EXPECT_HAS(good("spectrum a.wav"), "fold-back of order 5");
  EXPECT_EQ(good("spectrum b.wav").find("fold-back of order 5"), std::string::npos);
  good("spectrum a.wav b.wav --plot s.svg --bands 3");
  EXPECT_HAS(read_text(file("s.svg")), "<svg");
  EXPECT_HAS(bad(2, "spectrum a.wav --mid-side"), "need two channels");
}

TEST_F(Program, AliasingIsFollowedOverALadder) {
  good("make sweep --seconds 4 --level -1 -o s.wav --quiet");
  good("feed s.wav --through 'sim:tern?drive=18' -o a.wav --quiet");
  good("feed s.wav --through 'sim:tern?drive=18&oversampling=4' -o b.wav --quiet");
  const json sheet = json::parse(good("aliasing a.wav --json"));
  std::map<std::string, double> readings;
  for (const auto& r : sheet["readings"])
    if (readings.count(r["name"]) == 0) readings[r["name"]] = r["value"];
  // arctan of a sine of peak A behind a gain g: order 3 over order 1 is r²/3, r = (sqrt(1 + (gA)²) - 1)/(gA).
  const double driven = std::pow(10.0, (18 - 12 - 1) / 20.0),
               r = (std::sqrt(1 + driven * driven) - 1) / driven;
  EXPECT_NEAR(readings["worst_alias_dbc"], 20 * std::log10(r * r / 3), 0.05);
  EXPECT_EQ(readings["worst_alias_order"], 3);
  EXPECT_HAS(good("aliasing a.wav b.wav --plot a.png"), "b.wav: worst -5");
  EXPECT_EQ(wavicon("aliasing s.wav --limit 'worst_alias_dbc<-120' --quiet").status, 0);
  good("make noise --seconds 2 -o n.wav --quiet");
  EXPECT_HAS(bad(2, "aliasing n.wav"), "no part that is a sweep");
  good("make sweep --seconds 2 --no-marks -o u.wav --quiet");
  EXPECT_HAS(bad(2, "aliasing u.wav"), "give --stimulus");
}

TEST_F(Program, LevelsStandSideBySide) {
  good("make tone --level 0 --seconds 4 -o a.wav --quiet");
  good("make tone --level -6 --seconds 4 --channels 2 -o b.wav --quiet");
  const json one = json::parse(good("levels a.wav --json"));
  EXPECT_EQ(one["readings"][0]["name"], "rms_dbfs");
  EXPECT_NEAR(one["readings"][0]["value"].get<double>(), -3.0103, 1e-4) << "the part alone, not its marks";
  EXPECT_EQ(one["readings"][0]["conditions"]["part"], "tone");
  EXPECT_NEAR(
      json::parse(good("levels a.wav --json --rms-reference sine"))["readings"][0]["value"].get<double>(), 0,
      1e-4);
  const std::string both = good("levels a.wav b.wav --plot l.png --draw loudness");
  EXPECT_HAS(both, "-6.000");
  EXPECT_HAS(both, "difference");
  EXPECT_EQ(read_text(file("l.png")).substr(1, 3), "PNG");
  EXPECT_EQ(json::parse(good("levels a.wav b.wav --json")).size(), 2U);
  EXPECT_EQ(wavicon("levels a.wav b.wav --limit 'rms_dbfs<-5'").status, 1);
  EXPECT_HAS(good("levels b.wav --channel 2 --no-loudness --no-true-peak"), "RMS -9.01 dBFS");
  EXPECT_HAS(bad(2, "levels b.wav --channel 3"), "there is no channel 3");
}

TEST_F(Program, SpectrogramsAreMeasuredAndDrawn) {
  good("make sweep --seconds 2 --from 100 --to 20000 --channels 2 -o s.wav --quiet");
  const json sheet = json::parse(good("spectrogram s.wav --channel 2 --json"));
  EXPECT_EQ(sheet["maps"][0]["channel"], 2);
  EXPECT_EQ(sheet["maps"][0]["z"].size(), sheet["maps"][0]["x"].size() * sheet["maps"][0]["y"].size());
  EXPECT_NEAR(sheet["readings"][0]["value"].get<double>(), -10, 0.5);
  good("spectrogram s.wav --orders 5 --linear --plot s.png --part sweep");
  EXPECT_EQ(read_text(file("s.png")).substr(1, 3), "PNG");
  EXPECT_HAS(bad(2, "spectrogram s.wav --part swep"), "did you mean 'sweep'");
  EXPECT_HAS(bad(2, "spectrogram s.wav --resolution 0"), "not within 0.5 to 5000");
  EXPECT_HAS(bad(2, "spectrogram s.wav --channel 3"), "there is no channel 3, it has 2");
  good("make noise --seconds 1 --no-marks -o n.wav --quiet");
  EXPECT_HAS(bad(2, "spectrogram n.wav --orders 3"), "give --stimulus");
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
  EXPECT_HAS(good("harmonics late.wav"), "no stimulus was given: the strongest steady tone was taken for it");
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

TEST_F(Program, HelpAndVersionAreNoErrors) {
  EXPECT_HAS(good("--help"), "harmonics");
  EXPECT_HAS(good("harmonics --help"), "--limit");
  EXPECT_HAS(good("--version"), "wavicon 0.1");
}

TEST(Example, PrintsTheLadderOfDrives) {
  const Ran ran = testing::run(WAVICON_EXAMPLE);
  EXPECT_EQ(ran.status, 0) << ran.err;
  EXPECT_EQ(std::count(ran.out.begin(), ran.out.end(), '\n'), 5);
  // drive 12, -20 dBFS: H3 = r²/3 with r = (sqrt(1.01) - 1)/0.1.
  const double r = (std::sqrt(1.01) - 1) / 0.1;
  char expected[64];
  std::snprintf(expected, sizeof expected, "strongest is H3 at %.2f dBc", db_from_ratio(r * r / 3));
  EXPECT_HAS(ran.out, expected);
  EXPECT_NE(testing::run(std::string(WAVICON_EXAMPLE) + " sim:nothing").status, 0);
}

}  // namespace
}  // namespace wavicon
