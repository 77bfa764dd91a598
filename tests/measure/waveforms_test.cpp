// SPDX-License-Identifier: MIT
#include "wavicon/measure/waveforms/waveforms.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon {
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
    for (const Finding& f : waveforms_sheet({48000, {seen(recipe, x, y)}}, {}, {}).findings)
      text += f.text + "\n";
    return text;
  };
  EXPECT_NE(words(x).find("997 Hz: unchanged\n"), std::string::npos) << words(x);
  EXPECT_NE(words(x).find("19997 Hz: unchanged; that its samples swell and shrink 8006 times"),
            std::string::npos)
      << words(x);
  EXPECT_NE(words(scaled(x, 0.5)).find("6.02 dB softer"), std::string::npos);
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

}  // namespace
}  // namespace wavicon
