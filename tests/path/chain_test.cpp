// SPDX-License-Identifier: MIT
#include "path/feeding.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::chain_test {
namespace {

using namespace testing;

TEST(Tern, HarmonicsAgreeWithTheClosedForm) {
  // y = arctan(gx)/g of x = A sin t holds order k (odd) with 2·r^k/(k·g), r = (sqrt(1+(gA)²)-1)/(gA). 997 Hz
  // has 997 cycles in the second: orders fold onto each other only from the 47003rd on.
  constexpr double kFloatRounding = 1e-9;
  for (const double drive : {0.0, 12.0, 24.0, 36.0})
    for (const double level : {-30.0, -13.5, 0.0}) {
      const auto out = feed({"sim:tern?drive=" + std::to_string(drive)}, {tone(997, level, 48000)}).out[0];
      const double g = ratio_from_db(drive - 12), ga = g * ratio_from_db(level),
                   r = (std::sqrt(1 + ga * ga) - 1) / ga;
      for (int k = 1; k <= 31; ++k)
        EXPECT_NEAR(amplitude_at(out, 997.0 * k), k % 2 == 1 ? 2 * std::pow(r, k) / (k * g) : 0.0,
                    kFloatRounding)
            << "order " << k << " drive " << drive << " level " << level;
    }
}

TEST(Tern, SmallSignalsPassAtUnityWithADcErrorWhenAsymmetric) {
  for (const double asymmetry : {0.0, 0.5, 1.0}) {
    const auto out =
        feed({"sim:tern?drive=12&asymmetry=" + std::to_string(asymmetry)}, {tone(1000, -80, 48000)}).out[0];
    EXPECT_NEAR(amplitude_at(out, 1000), 1e-4, 1e-9);
    double mean = 0;
    for (const float x : out) mean += x / 48000.0;
    EXPECT_NEAR(mean, 0.01 * std::atan(asymmetry) * (1 + asymmetry * asymmetry), 2e-8);
  }
  const auto trimmed = feed({"sim:tern?output=-6"}, {tone(1000, -80, 48000)}).out[0];
  EXPECT_NEAR(amplitude_at(trimmed, 1000), 1e-4 * ratio_from_db(-6), 1e-9);
}

TEST(Tern, OversamplingPassesTheBandAndStopsTheFold) {
  for (const int factor : {2, 4, 8, 16}) {
    const std::string unit = "sim:tern?oversampling=" + std::to_string(factor);
    for (const double hz : {100.0, 10000.0, 21000.0}) {
      auto out = feed({unit}, {tone(hz, -80, 48000)}).out[0];
      out.erase(out.begin(), out.begin() + 24000);
      EXPECT_NEAR(db_from_ratio(amplitude_at(out, hz) / 1e-4), 0, 0.001) << factor << "x at " << hz;
    }
    // 9 kHz at full drive: order 3 lies at 27 kHz and folds to 21 kHz unless it is stopped.
    auto clean = feed({unit + "&drive=24"}, {tone(9000, -20, 48000)}).out[0];
    auto naive = feed({"sim:tern?drive=24"}, {tone(9000, -20, 48000)}).out[0];
    clean.erase(clean.begin(), clean.begin() + 24000);
    EXPECT_GT(db_from_ratio(amplitude_at(naive, 21000) / amplitude_at(clean, 21000)), factor == 2 ? 25 : 60)
        << factor;
  }
}

TEST(Chain, ResultDoesNotDependOnTheBlockLength) {
  const Channels in = {noise(4000, 1), noise(4000, 2)};
  const auto expected =
      feed({"sim:tern?drive=20&oversampling=2", "sim:tern?asymmetry=0.2"}, in, {.block_frames = 512}).out;
  for (const int block : {1, 64, 1000, 65536})
    EXPECT_EQ(
        feed({"sim:tern?drive=20&oversampling=2", "sim:tern?asymmetry=0.2"}, in, {.block_frames = block}).out,
        expected)
        << block;
}

TEST(Chain, SixtyFourChannelsAtTheHighestRate) {
  Channels in(64, std::vector<float>(2000));
  for (std::size_t c = 0; c < 64; ++c) in[c] = noise(2000, c);
  const auto out = feed({"sim:tern?drive=3"}, in, {}, 768000).out;
  EXPECT_EQ(out[63], feed({"sim:tern?drive=3"}, {in[63]}, {}, 768000).out[0]);
}

TEST(Chain, RefusesBlocksOutOfRange) {
  for (const int block : {0, -1, 65537})
    EXPECT_NE(message_of(ErrorCode::bad_argument,
                         [&] { feed({"sim:tern"}, {noise(10, 1)}, {.block_frames = block}); })
                  .find("65536"),
              std::string::npos);
}

}  // namespace
}  // namespace wavicon::chain_test
