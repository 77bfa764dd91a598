// SPDX-License-Identifier: MIT
#include "wavicon/intake/locate.hpp"

#include "intake/damage.hpp"

namespace wavicon::locate_test {
namespace {

using namespace testing;

constexpr double kClean = 0.01;  // samples
constexpr double kNoisy = 0.3;   // samples, under noise 20 dB below the marks
constexpr double kRates[] = {44100, 48000, 96000};

Take only_take(const std::vector<Take>& takes) {
  EXPECT_EQ(takes.size(), 1U);
  return takes.empty() ? Take{} : takes[0];
}

TEST(Locate, FindsDelayGainAndPolarity) {
  for (const double rate : kRates) {
    Stimulus stimulus(booth_recipe(rate));
    const auto x = rendered(stimulus);
    for (const auto& [late, gain] : {std::pair<std::size_t, double>{0, 1.0}, {12345, -0.7079}, {777, 0.01}}) {
      auto y = padded(x, late, 5000);
      for (double& v : y) v *= gain;
      const Take take = only_take(locate(audio_of(y, rate), stimulus));
      EXPECT_NEAR(take.first_frame, static_cast<double>(late), kClean) << rate;
      EXPECT_NEAR(take.gain_db, db_from_ratio(std::abs(gain)), 0.001);
      EXPECT_EQ(take.polarity, gain < 0 ? -1 : 1);
      EXPECT_NEAR(take.drift_ppm, 0, 0.01);
      EXPECT_EQ(take.slipped_frames, 0);
      EXPECT_EQ(take.rate_ratio, 1);
    }
  }
}

TEST(Locate, FindsFractionsAndDrift) {
  Stimulus stimulus(booth_recipe(48000));
  const auto x = rendered(stimulus);
  for (const double delay : {100.25, 3000.5, 41.37}) {
    const Take take = only_take(locate(audio_of(resampled(x, 1, delay, x.size() + 5000), 48000), stimulus));
    EXPECT_NEAR(take.first_frame, delay, kClean);
  }
  for (const double ppm : {20.0, -150.0}) {
    const Take take = only_take(
        locate(audio_of(resampled(x, 1 / (1 + ppm * 1e-6), 500, x.size() + 2000), 48000), stimulus));
    EXPECT_NEAR(take.drift_ppm, ppm, 0.5);
    EXPECT_EQ(take.slipped_frames, 0);
  }
}

TEST(Locate, StandsNoiseBandLimitsSaturationAndCompression) {
  for (const double rate : kRates) {
    Stimulus stimulus(booth_recipe(rate));
    const auto y = padded(rendered(stimulus), 4321, 3000);
    auto noisy = y, saturated = y, compressed = y;
    const double mark_rms = ratio_from_db(-20 - 3.01);
    double envelope = 0;
    for (std::size_t n = 0; n < y.size(); ++n) {
      noisy[n] += 0.1 * mark_rms * gaussian(5, n);
      saturated[n] = std::tanh(20 * y[n]) / 20;
      envelope = std::max(std::abs(y[n]), envelope * 0.9995);
      compressed[n] = y[n] / (1 + 20 * envelope);
    }
    EXPECT_NEAR(only_take(locate(audio_of(noisy, rate), stimulus)).first_frame, 4321, kNoisy) << rate;
    EXPECT_NEAR(only_take(locate(audio_of(saturated, rate), stimulus)).first_frame, 4321, 0.1) << rate;
    EXPECT_NEAR(only_take(locate(audio_of(compressed, rate), stimulus)).first_frame, 4321, 0.2) << rate;
    // A band limit delays by itself, by a sample or two.
    EXPECT_NEAR(only_take(locate(audio_of(band_limited(y, 80, 8000, rate), rate), stimulus)).first_frame,
                4321, 0.0001 * rate)
        << rate;
  }
}

TEST(Locate, NamesTheSpeedAtWhichAStimulusWasPlayed) {
  for (const auto& [made, played] :
       {std::pair{44100.0, 48000.0}, {48000.0, 44100.0}, {48000.0, 96000.0}, {96000.0, 44100.0}}) {
    Stimulus stimulus(booth_recipe(made));
    // The samples come back as they are; only the rate on the file is another.
    const Take take = only_take(locate(audio_of(padded(rendered(stimulus), 2000, 2000), played), stimulus));
    EXPECT_NEAR(take.rate_ratio, played / made, 1e-9);
    EXPECT_NEAR(take.first_frame, 2000, kClean);
  }
}

TEST(Locate, AProperlyConvertedCaptureIsPlayedAtItsSpeed) {
  Stimulus stimulus(booth_recipe(44100));
  const auto x = rendered(stimulus);
  const auto y = resampled(x, 44100.0 / 48000, 0, x.size() * 48 / 44 + 3000);
  const Take take = only_take(locate(audio_of(padded(y, 1000, 0), 48000), stimulus));
  EXPECT_EQ(take.rate_ratio, 1);
  EXPECT_NEAR(take.first_frame, 1000, 0.02);
  EXPECT_NEAR(take.frames_per_frame, 48.0 / 44.1, 1e-6);
}

TEST(Locate, SaysWhatIsCutOff) {
  Stimulus stimulus(booth_recipe(48000));
  const auto x = rendered(stimulus);
  const Take headless = only_take(locate(audio_of({x.begin() + 9000, x.end()}, 48000), stimulus));
  EXPECT_FALSE(headless.start);
  ASSERT_TRUE(headless.end);
  EXPECT_NEAR(headless.first_frame, -9000, kClean);
  const Take tailless = only_take(locate(audio_of({x.begin(), x.end() - 9000}, 48000), stimulus));
  EXPECT_TRUE(tailless.start);
  EXPECT_FALSE(tailless.end);
}

TEST(Locate, FindsEveryTake) {
  Stimulus stimulus(booth_recipe(48000));
  const auto x = rendered(stimulus);
  auto y = padded(x, 1000, 500);
  const auto again = padded(x, 2000, 100);
  y.insert(y.end(), again.begin(), again.end());
  const auto takes = locate(audio_of(y, 48000), stimulus);
  ASSERT_EQ(takes.size(), 2U);
  EXPECT_NEAR(takes[0].first_frame, 1000, kClean);
  EXPECT_NEAR(takes[1].first_frame, static_cast<double>(1000 + x.size() + 500 + 2000), kClean);
}

// An echo repeats both marks: it is no take of its own, and no frames were lost between one and the other.
TEST(Locate, AnEchoIsNoTake) {
  Stimulus stimulus(booth_recipe(48000));
  const auto x = rendered(stimulus);
  for (const auto& [late, gain] : {std::pair<std::size_t, double>{12000, 0.5}, {900, 0.9}, {30000, -0.3}}) {
    auto y = padded(x, 4321, 60000);
    for (std::size_t n = late; n < y.size(); ++n) y[n] += gain * y[n - late];  // and its echoes
    const Take take = only_take(locate(audio_of(y, 48000), stimulus));
    EXPECT_NEAR(take.first_frame, 4321, 0.1) << late;
    EXPECT_EQ(take.slipped_frames, 0) << late;
  }
  // Softer takes are takes.
  auto both = padded(x, 100, 100);
  for (const double v : x) both.push_back(0.3 * v);
  EXPECT_EQ(locate(audio_of(both, 48000), stimulus).size(), 2U);
}

TEST(Locate, FindsNothingInAnythingElse) {
  Stimulus stimulus(booth_recipe(48000));
  for (std::uint64_t seed = 1; seed <= 5; ++seed) {
    std::vector<double> noise(200000);
    for (std::size_t n = 0; n < noise.size(); ++n) noise[n] = 0.1 * gaussian(seed, n);
    EXPECT_TRUE(locate(audio_of(noise, 48000), stimulus).empty());
  }
  std::vector<double> tone(100000);
  for (std::size_t n = 0; n < tone.size(); ++n)
    tone[n] = exact_sine(997, 48000, static_cast<std::int64_t>(n));
  EXPECT_TRUE(locate(audio_of(tone, 48000), stimulus).empty());
  EXPECT_TRUE(locate(Audio(48000, 2, 100000), stimulus).empty());
  EXPECT_TRUE(locate(Audio(48000, 1, 1), stimulus).empty());
}

TEST(Locate, NeedsMarks) {
  Recipe recipe = booth_recipe(48000);
  recipe.marks = false;
  Stimulus stimulus(recipe);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)locate(Audio(48000, 1, 10), stimulus); })
                .find("no marks"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::locate_test
