// SPDX-License-Identifier: MIT
#include <filesystem>
#include <map>

#include "program.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::measuring_test {
namespace {

using namespace testing;

TEST_F(Program, HarmonicsKeepsAndBreaksLimits) {
  good("make tone --seconds 2 --level -13.5 -o t.wav");
  good("feed t.wav --through sim:tern?drive=12 -o c.wav");
  EXPECT_EQ(wavicon("harmonics t.wav --limit 'thd_db<-120'").status, 0);
  const Ran broken = wavicon("harmonics c.wav --limit 'thd_db<-120' --limit 'sinad_db>40'");
  EXPECT_EQ(broken.status, 1);
  EXPECT_HAS(broken.out, "limit thd_db<-120, c.wav: not kept (-48.77 dB, 71.23 dB too high)");
  EXPECT_HAS(broken.out, "limit sinad_db>40, c.wav: kept");
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
  EXPECT_HAS(table, "THD+N");
  EXPECT_HAS(good("harmonics t.wav --all"), "thd_n_db");
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
  EXPECT_HAS(bad(3, "harmonics cut.wav"),
             "cut.wav: unfit to be measured: the file is cut off: its header announces");
  EXPECT_HAS(bad(3, "harmonics zero.wav"), "zero.wav: there is no audio in it: 0 frames");
  EXPECT_HAS(bad(3, "harmonics silence.wav"), "silence.wav: unfit to be measured: the capture is silent");
  EXPECT_HAS(bad(3, "harmonics nan.wav"), "nan.wav: NaN or infinity (channel 1, frame 100");
  EXPECT_HAS(bad(3, "harmonics inf.wav"), "NaN or infinity (channel 1, frame 100");
  EXPECT_HAS(bad(3, "harmonics noise.wav"), "no steady tone");
  EXPECT_HAS(bad(3, "harmonics t.wav silence.wav --sheet s.json"), "silence.wav");
}

TEST_F(Program, TonesOverLevelsAreMatricesAndPanels) {
  good("make staircase --frequencies 200,997 --levels -30,-20,-10 --step 0.4 -o s.wav --quiet");
  good("feed s.wav --through 'sim:tern?drive=12&asymmetry=0.3&oversampling=4' -o c.wav --quiet");
  const std::string table = good("harmonics c.wav --plot l.svg");
  EXPECT_HAS(table, "\n  THD, dB  -30 dBFS  -20 dBFS  -10 dBFS\n  200 Hz ");
  EXPECT_HAS(table, "H3, dBc");
  EXPECT_HAS(read_text(file("l.svg")), ">at 200 Hz<");
  EXPECT_HAS(good("harmonics c.wav --all"), "h4_dbc");
}

TEST_F(Program, AStaircaseIsClimbedStepByStep) {
  good("make staircase --levels -50,-40,-30,-20 --step 0.5 -o s.wav --quiet");
  good("feed s.wav --through 'sim:tern?drive=12&asymmetry=0.3' -o c.wav --quiet");
  const std::string table = good("harmonics c.wav --plot l.png");
  EXPECT_HAS(table, "\n  -30 dBFS ");
  EXPECT_HAS(table, "growth of H2");
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
  const std::string bands = good("noise a.wav --band 20 20000 --band 20 22000 --band 1000,2000");
  EXPECT_HAS(bands, "20 Hz to 22 kHz");
  EXPECT_HAS(bands, "1000 Hz to 2000 Hz");
  EXPECT_HAS(bad(2, "noise a.wav --band 20 20000 --band 20"), "--band");
  EXPECT_HAS(bad(2, "noise a.wav --reference-level 1V"), "--calibrate 0dBFS=2.45Vrms");
  const json range = json::parse(good("noise a.wav --reference-level 1V --calibrate 0dBFS=2Vrms --json"));
  EXPECT_NEAR(reading(range, "dynamic_range_db")["value"].get<double>(), 90.797 - 3.01 - 6.02, 0.1);
  // One calibration for each.
  const json two =
      json::parse(good("noise a.wav b.wav --calibrate 0dBFS=2Vrms --calibrate 0dBFS=4Vrms --json"));
  EXPECT_EQ(reading(two[0], "noise_uvrms")["conditions"]["full_scale_vrms"], 2.0);
  EXPECT_EQ(reading(two[1], "noise_uvrms")["conditions"]["full_scale_vrms"], 4.0);
  EXPECT_HAS(bad(2, "noise a.wav --calibrate 0dBFS=2Vrms --calibrate 0dBFS=4Vrms"),
             "2 calibrations for 1 capture");
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
  EXPECT_HAS(good("aliasing a.wav b.wav --plot a.png"), "b.wav: worst fold-back: order 9 at ");
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
  EXPECT_HAS(both, "over a");
  EXPECT_HAS(good("levels a.wav b.wav --all"), "difference");
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
  EXPECT_HAS(bad(2, "spectrogram n.wav --orders 3"), "nothing tells which stimulus it holds");
}

TEST_F(Program, HelpAndVersionAreNoErrors) {
  EXPECT_HAS(good("--help"), "harmonics");
  EXPECT_HAS(good("harmonics --help"), "--limit");
  EXPECT_HAS(good("--version"), "wavicon 0.1");
}

// Programs of somebody else's kind: each of the examples does what its first lines say.
TEST_F(Program, ExamplesOfTheLibraryDoWhatTheySay) {
  const std::string folder = WAVICON_EXAMPLES;
  const Ran meter = testing::run(folder + "/meter_in_a_callback");
  EXPECT_EQ(meter.status, 0);
  EXPECT_HAS(meter.out, "RMS -21.07 dBFS");
  EXPECT_HAS(meter.out, "-6.0");
  const Ran bench = testing::run(folder + "/bench_over_a_class");
  EXPECT_EQ(bench.status, 1) << "12 dB of drive distort more than the plan allows\n" << bench.err;
  EXPECT_HAS(bench.out, "drive=12");
  good("make tone --seconds 1 -o one.wav --quiet");
  good("make tone --level -30 --seconds 1 -o two.wav --quiet");
  write_text(file("broken.wav"), "RIFF");
  const Ran batch = testing::run(folder + "/batch_over_a_folder '" + folder_.path().string() + "'");
  EXPECT_EQ(batch.status, 3) << "one of them cannot be read";
  EXPECT_HAS(batch.out, "broken.wav");
  EXPECT_HAS(batch.out, "two.wav: RMS -33");
  EXPECT_TRUE(std::filesystem::exists(file("one.wav.json")));
  EXPECT_HAS(testing::run(folder + "/own_measurement").out, "loud for 0.25 s");
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
}  // namespace wavicon::measuring_test
