// SPDX-License-Identifier: MIT
#include "wavicon/stimulus/tone.hpp"

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::tone_test {
namespace {

using testing::exact_sine;
using testing::message_of;

constexpr double kSampleError = 4e-16;  // of the level

std::vector<double> whole(const ToneStimulus& tone) {
  std::vector<double> x(static_cast<std::size_t>(frame_count(tone)));
  render(tone, 0, x);
  return x;
}

TEST(Tone, IsTheSineOfItsClosedForm) {
  for (const double rate : {8000.0, 44100.0, 48000.0, 192000.0, 768000.0})
    for (const double phase : {0.0, 90.0, -45.0}) {
      const ToneStimulus tone{.sample_rate_hz = rate,
                              .frequency_hz = 997.3,
                              .level_dbfs = -13.5,
                              .phase_deg = phase,
                              .seconds = 0.05};
      const auto x = whole(tone);
      ASSERT_EQ(static_cast<double>(x.size()), rate * 0.05);
      for (std::size_t n = 0; n < x.size(); ++n) {
        const double expected =
            ratio_from_db(-13.5) * exact_sine(997.3, rate, static_cast<std::int64_t>(n), phase / 360);
        ASSERT_NEAR(x[n], expected, kSampleError + 1e-15 * static_cast<double>(n) * 997.3 / rate * 1e-3)
            << rate << " at " << n;
      }
    }
}

TEST(Tone, StaysExactAfterADay) {
  const ToneStimulus tone{
      .sample_rate_hz = 768000, .frequency_hz = 1000, .level_dbfs = 0, .seconds = 24 * 3600};
  std::vector<double> x(768);
  render(tone, frame_count(tone) - 768,
         x);  // the last whole cycle: 1 kHz at 768 kHz repeats every 768 frames
  for (std::int64_t n = 0; n < 768; ++n)
    ASSERT_NEAR(x[static_cast<std::size_t>(n)], exact_sine(1000, 768000, n), 2e-8);
}

TEST(Tone, GivesTheSameBitsForAnyBlocks) {
  const ToneStimulus tone{.frequency_hz = 83,
                          .seconds = 0.3,
                          .fade_in_s = 0.1,
                          .fade_out_s = 0.05,
                          .silence_before_s = 0.01,
                          .silence_after_s = 0.02};
  const auto x = whole(tone);
  for (const std::size_t block : {1U, 7U, 512U, 100000U}) {
    std::vector<double> pieces(x.size());
    for (std::size_t start = 0; start < x.size(); start += block)
      render(tone, static_cast<std::int64_t>(start),
             std::span(pieces).subspan(start, std::min(block, x.size() - start)));
    EXPECT_EQ(pieces, x) << block;
  }
}

TEST(Tone, FadesRiseAndFallAsRaisedCosines) {
  const ToneStimulus tone{.frequency_hz = 12000,
                          .level_dbfs = 0,
                          .phase_deg = 90,
                          .seconds = 1,
                          .fade_in_s = 0.25,
                          .fade_out_s = 0.5};
  const auto x = whole(tone);  // 12 kHz at 48 kHz from its crest: every fourth sample is the envelope
  for (std::size_t n = 0; n < x.size(); n += 4) {
    const double in = n < 12000 ? 0.5 - 0.5 * std::cos(M_PI * (static_cast<double>(n) + 0.5) / 12000) : 1.0;
    const auto left = static_cast<double>(x.size() - 1 - n);
    const double out = left < 24000 ? 0.5 - 0.5 * std::cos(M_PI * (left + 0.5) / 24000) : 1.0;
    ASSERT_NEAR(x[n], in * out, 1e-12) << n;
  }
}

TEST(Tone, IsSilentBeforeAndAfterAndBeyond) {
  const ToneStimulus tone{.seconds = 0.5, .silence_before_s = 0.25, .silence_after_s = 0.125};
  EXPECT_EQ(frame_count(tone), 24000 + 12000 + 6000);
  const auto x = whole(tone);
  for (std::size_t n = 0; n < 12000; ++n) ASSERT_EQ(x[n], 0.0);
  EXPECT_NE(x[12001], 0.0);
  for (std::size_t n = 36000; n < 42000; ++n) ASSERT_EQ(x[n], 0.0);
  std::vector<double> beyond(10, 1.0);
  render(tone, 50000, beyond);
  for (const double v : beyond) EXPECT_EQ(v, 0.0);
}

TEST(Tone, RefusesWhatIsOutOfRange) {
  auto refused = [](ToneStimulus tone) {
    return message_of(ErrorCode::bad_argument, [&] { require_valid(tone); });
  };
  EXPECT_EQ(refused({.sample_rate_hz = 7999}), "sample rate 7999 Hz is not within 8000 to 768000 Hz");
  EXPECT_EQ(refused({.sample_rate_hz = 48000, .frequency_hz = 24000}),
            "frequency 24000 Hz is not above 0 and below half the sample rate (24000 Hz)");
  EXPECT_NE(refused({.frequency_hz = NAN}).find("frequency nan"), std::string::npos);
  EXPECT_NE(refused({.level_dbfs = 61}).find("level 61 dBFS"), std::string::npos);
  EXPECT_NE(refused({.seconds = 0}).find("length 0 s"), std::string::npos);
  EXPECT_NE(refused({.seconds = 1, .fade_in_s = 0.6, .fade_out_s = 0.6}).find("do not fit"),
            std::string::npos);
  EXPECT_NE(refused({.silence_before_s = -1}).find("silence before -1 s"), std::string::npos);
}

TEST(OnBin, MovesToTheNearestWholeNumberOfCycles) {
  EXPECT_DOUBLE_EQ(on_bin_frequency_hz(997, 48000, 65536), 1361.0 * 48000 / 65536);
  for (const double hz : {0.001, 83.0, 997.3, 23999.9}) {
    const double moved = on_bin_frequency_hz(hz, 48000, 4096);
    const double cycles = moved * 4096 / 48000;
    EXPECT_NEAR(cycles, std::round(cycles), 1e-9);
    EXPECT_GE(std::round(cycles), 1);
    EXPECT_LT(moved, 24000);
  }
  EXPECT_EQ(power_of_two_within(96000), 65536);
  EXPECT_EQ(power_of_two_within(65536), 65536);
  EXPECT_EQ(power_of_two_within(0), 1);
}

}  // namespace
}  // namespace wavicon::tone_test
