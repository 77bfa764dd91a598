// SPDX-License-Identifier: MIT
// Signals that somebody cut in a session, without a recipe, meet the program.

#include <cmath>
#include <numbers>

#include "intake/hit_signals.hpp"
#include "program.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::recognising_test {
namespace {

using namespace testing;

class Recognising : public Program {
 protected:
  static constexpr double kRate = 48000;

  static void add_silence(std::vector<double>& x, double seconds) {
    x.resize(x.size() + static_cast<std::size_t>(seconds * kRate), 0.0);
  }
  static void add_tone(std::vector<double>& x, double hz, double dbfs, double seconds) {
    const auto frames = static_cast<std::size_t>(seconds * kRate);
    for (std::size_t n = 0; n < frames; ++n) {
      const double edge = std::min({1.0, static_cast<double>(n) / 96, static_cast<double>(frames - n) / 96});
      x.push_back(edge * std::pow(10, dbfs / 20) *
                  std::sin(2 * std::numbers::pi * (hz * static_cast<double>(n) / kRate + 0.1)));
    }
  }
  // Fifteen steps of 1 kHz, then a block of 997 Hz by a fader.
  static std::vector<double> steps_and_block() {
    std::vector<double> x;
    add_silence(x, 0.41);
    for (int i = 0; i < 15; ++i) {
      add_tone(x, 1000, -60 + 4 * i, 0.4 + 0.011 * (i % 4));
      add_silence(x, 0.08 + 0.007 * (i % 3));
    }
    add_silence(x, 0.8);
    for (std::size_t n = 0; n < static_cast<std::size_t>(2.6 * kRate); ++n) {
      const double t = static_cast<double>(n) / kRate;
      x.push_back((t < 0.507 || t >= 1.3111 ? 0.01 : 0.4) * std::sin(2 * std::numbers::pi * (997 * t + 0.2)));
    }
    add_silence(x, 0.5);
    return x;
  }
  void write(const std::string& name, const std::vector<double>& x) const {
    Audio audio(kRate, 1, static_cast<std::int64_t>(x.size()));
    std::copy(x.begin(), x.end(), audio.channel(0).begin());
    write_audio_file(file(name), audio, {});
  }
};

TEST_F(Recognising, ShowSaysWhatItIsInTheFirstLine) {
  std::vector<double> x;
  add_silence(x, 0.3);
  for (int i = 0; i < 5; ++i) {
    add_tone(x, 997, -40 + 5 * i, 0.5);
    add_silence(x, 0.1);
  }
  write("steps.wav", x);
  const std::string shown = good("show steps.wav --save-recipe steps.toml");
  EXPECT_HAS(shown,
             "it carries no recipe; recognised: 5 steps of 997 Hz, -40.00 to -20.00 dBFS, 0.5 s each, 0.1 s "
             "apart\n");
  EXPECT_HAS(shown, "steps.toml: 1 part written");
  good("make --recipe steps.toml -o again.wav");
  EXPECT_HAS(good("null steps.wav again.wav"), "delay 0 samples ±");
  EXPECT_HAS(good("show again.wav"), "staircase");
  // The recipe inside can be saved as well; nothing certain cannot.
  good("show again.wav --save-recipe inside.toml");
  write("silence.wav", std::vector<double>(4800, 0.0));
  EXPECT_HAS(good("show silence.wav"), "silent");
  EXPECT_EQ(wavicon("show silence.wav --save-recipe s.toml").status, 3);
  EXPECT_FALSE(std::filesystem::exists(file("s.toml")));
  EXPECT_HAS(bad(2, "show steps.wav --save-recipe steps.wav"), "steps.wav");
}

// A drum track through an interface: each hit, in two files or in one; a channel that holds nothing is passed
// over.
TEST_F(Recognising, LatencyTimesEachHitOfATrack) {
  const RowOfHits row = row_of(10, 7);
  RowOfHits loose = row;
  for (std::size_t i = 0; i < loose.late.size(); ++i) loose.late[i] = 400 + 15 * gaussian(4, i);
  const auto x = samples_of(row, kRate), y = samples_of(loose, kRate);
  write("drums.wav", x);
  write("loose.wav", y);
  good(
      "feed drums.wav --through 'sim:heron?delay=51.4&noise=-90' --keep-latency --tail 0.5 -o back.wav "
      "--quiet");
  const std::string said = good("latency drums.wav back.wav");
  EXPECT_HAS(said, "ms) after A: 10 hits, steady to");
  const json sheet =
      json::parse(good("latency drums.wav loose.wav --json --csv hits.csv --plot hits.svg --draw hits"));
  int hits = 0;
  for (const json& one : sheet["readings"]) hits += one["name"] == "hit_samples";
  EXPECT_EQ(hits, 10);
  EXPECT_HAS(read_text(file("hits.csv")), "worst_hit_samples");
  EXPECT_HAS(read_text(file("hits.svg")), "Latency of each hit");
  // Source and return in one file.
  Audio both(kRate, 3, static_cast<std::int64_t>(x.size()));
  std::copy(x.begin(), x.end(), both.channel(0).begin());
  std::copy(y.begin(), y.end(), both.channel(2).begin());
  for (std::size_t n = 0; n < x.size(); ++n) both.channel(1)[n] = 0.01 * gaussian(6, n);
  write_audio_file(file("both.wav"), both, {});
  EXPECT_HAS(good("latency both.wav --channels 1,3"), "not steadily: 10 hits jitter by");
  EXPECT_HAS(good("latency both.wav --channels 3,1"), "samples (");
  EXPECT_HAS(bad(2, "latency both.wav"), "of one file, two channels are compared: --channels 1,2");
  EXPECT_HAS(bad(2, "latency both.wav --channels 1,4"), "no channel 4");
  EXPECT_HAS(bad(2, "null both.wav"), "FILES");
  // Hiss in channel 1, the return in channel 2.
  Audio second(kRate, 2, static_cast<std::int64_t>(x.size()));
  std::copy(y.begin(), y.end(), second.channel(1).begin());
  for (std::size_t n = 0; n < x.size(); ++n) second.channel(0)[n] = 0.01 * gaussian(6, n);
  write_audio_file(file("second.wav"), second, {});
  EXPECT_HAS(good("latency drums.wav second.wav"),
             "channel 1 of A, channel 2 of B: those before hold nothing of A");
}

// A tone between pauses: noise is read in a pause, of which nobody said where it is.
TEST_F(Recognising, NoiseIsReadInThePause) {
  std::vector<double> x;
  add_silence(x, 1);
  add_tone(x, 997, -20, 2);
  add_silence(x, 2);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] += std::pow(10, -90.0 / 20) * gaussian(3, n);
  write("pauses.wav", x);
  const json sheet = json::parse(good("noise pauses.wav --json"));
  const json& level = reading(sheet, "noise_dbfs");
  // Of white noise, the part from 20 Hz to 20 kHz of 24 kHz.
  EXPECT_NEAR(level["value"].get<double>(), -90.8, 0.1);
  EXPECT_NEAR(level["conditions"]["from_s"].get<double>(), 3.1, 0.05);
  // Hum is a steady tone as well, and nobody played it.
  std::vector<double> hum(6 * 48000);
  for (std::size_t n = 0; n < hum.size(); ++n)
    hum[n] =
        0.001 * std::sin(2 * std::numbers::pi * 50 * static_cast<double>(n) / kRate) + 1e-5 * gaussian(5, n);
  write("hum.wav", hum);
  const json of_hum = json::parse(good("noise hum.wav --json"));
  EXPECT_NEAR(reading(of_hum, "noise_dbfs")["value"].get<double>(), -63.01, 0.05);
}

TEST_F(Recognising, AReferenceMayHoldItsSweepInAnyChannel) {
  good("make sweep --seconds 2 --no-marks --silence-before 0.2 --silence-after 0.2 -o s.wav --quiet");
  const Audio sweep = read_audio_file(file("s.wav")).audio;
  Audio right(kRate, 2, sweep.frames());
  std::copy(sweep.channel(0).begin(), sweep.channel(0).end(), right.channel(1).begin());
  write_audio_file(file("right.wav"), right, {});
  good("feed s.wav --through 'sim:tern?drive=12' -o back.wav --quiet");
  EXPECT_HAS(good("aliasing back.wav --reference right.wav"), "worst fold-back");
}

// The levels that went in are those of the reference: recognised, found in the capture, through the curve.
TEST_F(Recognising, ClippingTakesTheStairsAndTheRampThatSomebodySent) {
  std::vector<double> stairs, ramp;
  add_silence(stairs, 0.4);
  add_silence(ramp, 0.4);
  for (int i = 0; i < 12; ++i) add_tone(stairs, 997, -24 + 2 * i, 0.4);
  for (std::size_t n = 0; n < 6 * 48000; ++n) {
    const double t = static_cast<double>(n) / kRate;
    ramp.push_back(ratio_from_db(-40 + 6.5 * t) * std::sin(2 * std::numbers::pi * 997 * t));
  }
  for (const auto* x : {&stairs, &ramp}) {
    auto sent = *x;
    sent.resize(sent.size() + 20000, 0.0);
    std::vector<double> back(1234, 0.0);
    for (const double v : sent) back.push_back(std::clamp(1.3 * v, -0.5, 0.5));
    write("sent.wav", sent);
    write("back.wav", back);
    const json sheet = json::parse(good("clipping back.wav --reference sent.wav --json"));
    EXPECT_NEAR(reading(sheet, "gain_db")["value"].get<double>(), 20 * std::log10(1.3), 0.01);
    const json& point = reading(sheet, "clipping_point_dbfs");
    // A sine at the onset: -8.30 dBFS in; 1 % of THD comes a little later.
    EXPECT_NEAR(point["value"].get<double>(), -8.1, x == &ramp ? 0.25 : 1.0);
    EXPECT_EQ(point["conditions"]["reference"], "sent.wav");
  }
  EXPECT_HAS(good("clipping back.wav --reference sent.wav"),
             "reference: it carries no recipe: a tone of 997 Hz");
  // Not those of another file.
  write("other.wav", stairs);
  EXPECT_HAS(bad(3, "clipping back.wav --reference other.wav"), "does not hold the reference");
  write("hiss.wav", std::vector<double>(48000, 0.0));
  EXPECT_EQ(wavicon("clipping back.wav --reference hiss.wav").status, 3);
}

TEST_F(Recognising, DynamicsMeasuresBlocksThatCarryNoRecipe) {
  write("a.wav", steps_and_block());
  good("feed a.wav --through 'sim:plover?attack=10&release=100' --bits 24 -o b.wav");
  const json sheet = json::parse(good("dynamics a.wav b.wav --json"));
  EXPECT_NEAR(reading(sheet, "threshold_dbfs")["value"], -20, 0.05);
  EXPECT_NEAR(reading(sheet, "ratio")["value"], 4, 0.02);
  EXPECT_NEAR(reading(sheet, "attack_63_ms")["value"], 10, 0.2);
  EXPECT_NEAR(reading(sheet, "release_63_ms")["value"], 100, 2);
  EXPECT_HAS(good("dynamics a.wav b.wav"),
             "A: it carries no recipe: 15 steps of 1000 Hz, -60.00 to -4.00 dBFS");
  // What it does to the levels is no reason to say that it is not there, and its pauses were played.
  EXPECT_HAS(good("health b.wav --reference a.wav"),
             "fit to be measured; the reference is there, 0.000000 s late");
  // The pauses of B are those of A; those of another file are not.
  std::vector<double> other;
  add_silence(other, 0.2);
  for (int i = 0; i < 4; ++i) {
    add_tone(other, 330, -20, 0.3);
    add_silence(other, 0.05);
  }
  write("other.wav", other);
  EXPECT_EQ(wavicon("dynamics a.wav other.wav").status, 3);
  EXPECT_EQ(wavicon("health other.wav --reference a.wav").status, 3);
}

// Through a unit whose gain never comes to rest: no tone of B is steady, the steps alone tell where it lies.
TEST_F(Recognising, BlocksThroughASlowCompressorLieWhereTheirStepsAre) {
  std::vector<double> x;
  add_silence(x, 0.25);
  // One tone by a fader: 0.5 s softly, 0.6 s loudly, three times, and softly in the end.
  for (std::size_t n = 0; n < 182400; ++n)
    x.push_back(ratio_from_db(n % 52800 < 24000 ? -30 : -6) *
                exact_sine(997, kRate, static_cast<std::int64_t>(n)));
  add_silence(x, 0.25);
  std::vector<double> y(1234, 0.0);
  double gain = 0, level = 0;
  for (const double v : x) {
    level = std::max(std::abs(v), level * std::exp(-1 / (0.003 * kRate)));
    const double asked = level > 0.1 ? -0.75 * (db_from_ratio(level) + 20) : 0;
    gain = asked + (gain - asked) * std::exp(-1 / ((asked < gain ? 0.01 : 0.4) * kRate));
    y.push_back(v * ratio_from_db(gain));
  }
  write("a.wav", x);
  write("b.wav", y);
  const json sheet = json::parse(good("dynamics a.wav b.wav --json"));
  EXPECT_NEAR(reading(sheet, "attack_63_ms")["value"].get<double>(), 11, 2);
  EXPECT_HAS(good("dynamics a.wav b.wav"), "the release is longer than the 500 ms after the block");
  // The same with 20 ms lost after the second block: refused, not placed.
  y.erase(y.begin() + 1234 + 12000 + 2 * 52800 + 10000, y.begin() + 1234 + 12000 + 2 * 52800 + 10960);
  write("lost.wav", y);
  EXPECT_EQ(wavicon("dynamics a.wav lost.wav").status, 3);
}

TEST_F(Recognising, HarmonicsWaveformsAndAliasingTakeForeignSignals) {
  std::vector<double> x;
  add_silence(x, 0.2);
  for (const double hz : {100.0, 1000.0, 5000.0}) {
    add_tone(x, hz, -12, 0.5);
    add_silence(x, 0.06);
  }
  write("tones.wav", x);
  good("feed tones.wav --through 'sim:tern?drive=12' --bits 24 -o drive.wav");
  const json waves = json::parse(good("waveforms tones.wav drive.wav --json"));
  int tones = 0;
  for (const json& r : waves["readings"]) tones += r["name"] == "gain_db";
  EXPECT_EQ(tones, 3);
  EXPECT_HAS(good("harmonics drive.wav"), "\n  5000 Hz ");
  std::vector<double> sweep;
  add_silence(sweep, 0.3);
  const double rate = std::log(19500.0 / 25) / 5;
  for (int n = 0; n < 5 * 48000; ++n)
    sweep.push_back(0.5 * std::sin(2 * std::numbers::pi * 25 * std::expm1(rate * n / 48000) / rate));
  add_silence(sweep, 0.5);
  write("sweep.wav", sweep);
  good("feed sweep.wav --through 'sim:tern?drive=12' --bits 24 -o swept.wav");
  const json own = json::parse(good("aliasing swept.wav --json")),
             given = json::parse(good("aliasing swept.wav --reference sweep.wav --json"));
  EXPECT_NEAR(reading(own, "worst_alias_dbc")["value"].get<double>(),
              reading(given, "worst_alias_dbc")["value"].get<double>(), 0.1);
}

}  // namespace
}  // namespace wavicon::recognising_test
