// SPDX-License-Identifier: MIT
#include "wavicon/intake/align.hpp"

#include "intake/damage.hpp"

namespace wavicon {
namespace {

using namespace testing;

constexpr double kClean = 1e-4;  // samples

std::vector<double> programme(const std::string& content, double rate, double seconds,
                              std::int64_t seed = 1) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back(
      {.kind = Programme{.content = content, .level_dbfs = -20, .seconds = seconds, .seed = seed}});
  recipe.parts.push_back(
      {.kind = Noise{.colour = "pink", .level_dbfs = -60, .seconds = seconds, .seed = seed + 7},
       .with_previous = true});
  Stimulus stimulus(recipe);
  return rendered(stimulus);
}

std::optional<Alignment> aligned(const Audio& a, const Audio& b, const AlignOptions& options = {}) {
  MemorySource reference(a), capture(b);
  return align(reference, capture, options);
}

TEST(Align, FindsDelayGainPolarityAndDrift) {
  for (const double rate : {44100.0, 96000.0})
    for (const char* content : {"voice", "chamber"}) {
      const auto x = programme(content, rate, 5);
      const Audio reference = audio_of(x, rate);
      struct Case {
        double delay, gain, ppm;
      };
      for (const Case& c : {Case{4321.37, -0.5, 0}, Case{-1234.6, 0.01, 20}, Case{300.5, -1, -150}}) {
        const double step = 1 / (1 + c.ppm * 1e-6);
        auto y = resampled(x, step, c.delay * step, x.size());
        for (double& v : y) v *= c.gain;
        const auto found = aligned(reference, audio_of(y, rate));
        ASSERT_TRUE(found) << rate << content << c.delay;
        EXPECT_NEAR(found->delay_frames, c.delay, kClean * 50) << rate << content;
        EXPECT_NEAR(found->drift_ppm, c.ppm, 0.01) << rate << content << c.delay;
        EXPECT_NEAR(found->gain / c.gain, 1, 2e-3) << rate << content << c.delay;
        EXPECT_TRUE(found->candidates.empty());
      }
    }
}

TEST(Align, HalfASampleOffIsNoTrap) {
  std::vector<double> x(96000);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = 0.1 * gaussian(6, n);
  for (const double late : {-12.5, 0.5, 3.499, 100.501}) {
    const auto found = aligned(audio_of(x, 48000), audio_of(resampled(x, 1, late, x.size()), 48000));
    ASSERT_TRUE(found);
    EXPECT_NEAR(found->delay_frames, late, kClean);
  }
}

TEST(Align, NoiseAndCutsDoNoHarm) {
  const auto x = programme("chamber", 48000, 10);
  auto y = resampled(x, 1, 500.25, x.size());
  for (std::size_t n = 0; n < y.size(); ++n) y[n] += 1e-4 * gaussian(3, n);
  auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->delay_frames, 500.25, 2e-3);
  EXPECT_NEAR(found->drift_ppm, 0, 0.01);
  // Noise as strong as the programme.
  for (std::size_t n = 0; n < y.size(); ++n) y[n] += 0.1 * gaussian(4, n);
  found = aligned(audio_of(x, 48000), audio_of(y, 48000), {.drift = false});
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->delay_frames, 500.25, 0.05);
  EXPECT_NEAR(found->gain, 1, 0.02);
  // Only the middle of it was recorded.
  const std::vector<double> cut(x.begin() + 100000, x.begin() + 300000);
  found = aligned(audio_of(x, 48000), audio_of(cut, 48000));
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->delay_frames, -100000, 1e-3);
  EXPECT_EQ(found->first_frame, 100000);
  EXPECT_EQ(found->end_frame, 300000);
}

TEST(Align, TellsASlip) {
  const auto x = programme("voice", 48000, 10);
  auto lost = x;
  lost.erase(lost.begin() + 300000, lost.begin() + 300100);
  const auto found = aligned(audio_of(x, 48000), audio_of(lost, 48000));
  ASSERT_TRUE(found);
  ASSERT_EQ(found->slips.size(), 1U);
  EXPECT_EQ(found->slips[0].frames, -100);
  EXPECT_LE(found->slips[0].after_frame, 300000);
  EXPECT_GE(found->slips[0].before_frame, 300000);
  EXPECT_NEAR(found->delay_frames, 0, 1e-3);
}

TEST(Align, SaysWhenThereIsNothingInCommonOrTooMuch) {
  const auto x = programme("chamber", 48000, 5), other = programme("voice", 48000, 5, 9);
  EXPECT_FALSE(aligned(audio_of(x, 48000), audio_of(other, 48000)));
  EXPECT_FALSE(aligned(audio_of(x, 48000), Audio(48000, 1, 100000)));
  std::vector<double> periodic(200000);
  for (std::size_t n = 0; n < periodic.size(); ++n) periodic[n] = x[100000 + n % 24000];
  const auto found =
      aligned(audio_of({periodic.begin(), periodic.begin() + 100000}, 48000), audio_of(periodic, 48000));
  ASSERT_TRUE(found);
  EXPECT_FALSE(found->candidates.empty()) << "it fits as well half a second later";
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)aligned(Audio(48000, 1, 9), Audio(44100, 1, 9)); })
          .find("bring both to one rate"),
      std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] { (void)aligned(Audio(48000, 1, 9), Audio(48000, 1, 9), {.capture_channel = 1}); })
                .find("there is no channel 2"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)aligned(Audio(48000, 1, 0), Audio(48000, 1, 9)); })
                .find("0 frames"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon
