// SPDX-License-Identifier: MIT
#include "wavicon/measure/waveforms/waveforms.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon::waveforms_test {
namespace {

using namespace testing;

Recipe four_tones(double rate) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back(
      {.kind =
           Staircase{.frequencies_hz = {100, 997, 9973, 19997}, .levels_dbfs = {-30, -12}, .step_s = 0.6}});
  return recipe;
}

std::vector<ToneWaveform> seen(const Recipe& recipe, const Signal& x, const Signal& y) {
  Stimulus stimulus(recipe);
  const Audio a = audio_of(x, recipe.sample_rate_hz), b = audio_of(y, recipe.sample_rate_hz);
  MemorySource from(a), against(b);
  return measure_waveforms(played(from, stimulus, Take{}), played(against, stimulus, Take{})).channels[0];
}

TEST(Waveforms, GainDelayRestAndCarrierAreRead) {
  for (const double rate : {44100.0, 48000.0, 96000.0}) {
    const Recipe recipe = four_tones(rate);
    Stimulus stimulus(recipe);
    const Signal x = rendered(stimulus);
    Signal y = scaled(moved(x, 0.7), 0.5);
    for (std::size_t n = 0; n < y.size(); ++n)
      y[n] += ratio_from_db(-50) * exact_sine(15859, rate, static_cast<std::int64_t>(n));
    const auto tones = seen(recipe, x, y);
    ASSERT_EQ(tones.size(), 4U);
    for (const ToneWaveform& t : tones) {
      EXPECT_NEAR(t.in_dbfs, -12, 1e-3) << "the loudest step";
      ASSERT_TRUE(t.gain_db);
      EXPECT_NEAR(*t.gain_db, db_from_ratio(0.5), 0.002) << t.frequency_hz;
      if (t.frequency_hz < 0.42 * rate) {
        EXPECT_NEAR(t.delay_samples, 0.7, 0.002) << t.frequency_hz;
      }
      EXPECT_NEAR(t.rest_db, -50 + 12, 0.1) << t.frequency_hz;
      ASSERT_TRUE(t.foreign_hz) << t.frequency_hz;
      EXPECT_NEAR(*t.foreign_hz, 15859, 0.5);
      EXPECT_NEAR(t.foreign_dbfs, -50, 0.05);
      EXPECT_GE(t.in.size(), 48U);
      EXPECT_EQ(t.in.size(), t.out.size());
      EXPECT_NEAR(t.in[0], 0, 0.27 * 2 * M_PI * t.frequency_hz / rate) << "from a rising zero crossing";
    }
  }
}

TEST(Waveforms, WordsSayWhatChanged) {
  const Recipe recipe = four_tones(48000);
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus);
  const auto words = [&](const Signal& y) {
    std::string text;
    for (const Finding& f :
         waveforms_sheet({.sample_rate_hz = 48000, .channels = {seen(recipe, x, y)}}, {}, {}).findings)
      text += f.text + "\n";
    return text;
  };
  EXPECT_NE(words(x).find("997 Hz: unchanged\n"), std::string::npos) << words(x);
  EXPECT_NE(words(x).find("19997 Hz: unchanged; that its samples swell and shrink 8006 times"),
            std::string::npos)
      << words(x);
  EXPECT_NE(words(scaled(x, 0.5)).find("6.02 dB softer"), std::string::npos);
  EXPECT_EQ(words(scaled(x, 0.5)).find("beyond the end"), std::string::npos) << "all tones alike";
  EXPECT_NE(words(shaped(x, [](double v, std::size_t) { return v + 0.1 * v * v; })).find("harmonics at"),
            std::string::npos);
  EXPECT_NE(words(Signal(x.size(), 0.0)).find("it does not come through"), std::string::npos);
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { (void)seen(recipe, x, Signal(500, 0.1)); }).find("cut off"),
      std::string::npos);
  Recipe noise{.sample_rate_hz = 48000, .marks = false};
  noise.parts.push_back({.kind = Noise{}});
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)seen(noise, x, x); }).find("no tone"),
            std::string::npos);
}

// Rounded to 8 bits a tone stands on steps; bent by a curve that no order up to 10 holds it repeats, without
// steps; noise does neither.
TEST(Waveforms, StepsAreToldFromWhatRepeatsAndFromNoise) {
  const Recipe recipe = four_tones(48000);
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus);
  // Beyond, 480 samples of a period do not meet each step.
  for (const int bits : {5, 6, 8}) {
    const double q = std::ldexp(1.0, 1 - bits);
    const auto tones = seen(recipe, x, shaped(x, [&](double v, std::size_t n) {
                              return q * std::round(v / q) + 0.05 * q * gaussian(5, n);
                            }));
    ASSERT_TRUE(tones[0].step) << bits;
    EXPECT_NEAR(*tones[0].step / q, 1, 0.02) << bits;
    EXPECT_FALSE(tones[0].foreign_hz) << bits << ": orders of the tone are its own";
  }
  const auto bent =
      seen(recipe, x, shaped(x, [](double v, std::size_t) { return std::clamp(v, -0.1, 0.1); }));
  EXPECT_TRUE(bent[0].repeating_share);
  EXPECT_FALSE(bent[0].step);
  int steps = 0, repeats = 0;
  for (std::uint64_t seed = 0; seed < 15; ++seed)
    for (const ToneWaveform& t :
         seen(recipe, x, shaped(x, [&](double v, std::size_t n) { return v + 1e-3 * gaussian(seed, n); }))) {
      steps += t.step.has_value();
      repeats += t.repeating_share.has_value();
    }
  EXPECT_EQ(steps, 0);
  EXPECT_LE(repeats, 1);
}

TEST(Waveforms, AnImageAndADroopNameTheRateOfTheConverter) {
  const double rate = 96000;
  const Recipe recipe = four_tones(rate);
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus);
  Signal y = x;
  for (std::size_t n = 0; n < y.size(); ++n)
    y[n] += ratio_from_db(-60) * exact_sine(44100 - 19997, rate, static_cast<std::int64_t>(n));
  const auto tones = seen(recipe, x, y);
  ASSERT_TRUE(tones[3].image_of_hz);
  EXPECT_EQ(*tones[3].image_of_hz, 44100);
  EXPECT_EQ(tones[3].image_order, -1);
  EXPECT_FALSE(tones[0].image_of_hz) << "44 100 - 100 Hz is elsewhere";
  // sin(x)/x of a hold at 48 kHz, tone by tone; a level gain and a low-pass of one pole are none.
  const auto with = [&](auto gain_db) {
    std::vector<ToneWaveform> made;
    for (const double hz : {100.0, 997.0, 5000.0, 9973.0, 19997.0})
      made.push_back({.frequency_hz = hz, .gain_db = gain_db(hz)});
    return made;
  };
  const auto hold = [](double hz) {
    const double turn = M_PI * hz / 48000;
    return -6 + db_from_ratio(std::sin(turn) / turn);
  };
  const auto droop = find_droop(with(hold));
  ASSERT_TRUE(droop);
  EXPECT_EQ(droop->rate_hz, 48000);
  EXPECT_LT(droop->error_db, 1e-9);
  EXPECT_FALSE(find_droop(with([](double) { return -6.0; })));
  EXPECT_FALSE(find_droop(with([](double hz) { return -db_from_power_ratio(1 + hz * hz / 4e8); })));
}

}  // namespace
}  // namespace wavicon::waveforms_test
