// SPDX-License-Identifier: MIT
#include "wavicon/audio/between_samples.hpp"

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::between_samples_test {
namespace {

using namespace testing;

TEST(BetweenSamples, FindsTheCrestThatNoSampleShows) {
  // At a quarter of the rate and a phase of 45 degrees every sample reads 0.7071 of the peak.
  for (const double part : {0.25, 0.1, 0.05, 0.4}) {
    std::vector<double> x;
    for (int n = 0; n < 4000; ++n) x.push_back(exact_sine(part, 1, n, 0.125));
    const auto [highest, index] = highest_between(x);
    EXPECT_NEAR(db_from_ratio(highest), 0, part == 0.4 ? 0.12 : 0.02) << part;
    EXPECT_LT(index, x.size() - 2 * kBetweenReach);
  }
}

TEST(BetweenSamples, NamesThePlace) {
  std::vector<double> x(200, 0.0);
  x[100] = x[101] = 0.8;  // a crest half-way: 2·0.8·sinc(1/2)
  const auto [highest, index] = highest_between(x);
  EXPECT_EQ(index + kBetweenReach, 100U);
  EXPECT_NEAR(highest, 2 * 0.8 * 2 / std::numbers::pi, 0.01);
}

// The highest crest lies before the first sample of such a burst, among samples that are all silent: wherever
// the meter divides its work, it is looked for there.
TEST(TruePeakMeter, FindsACrestBesideTheSamplesThatMakeIt) {
  constexpr std::size_t kBurst = 16;
  for (std::size_t start = 40; start < 180; ++start) {
    std::vector<double> x(300, 0.0);
    for (std::size_t n = 0; n < kBurst; ++n)
      x[start + n] = (n % 2 == 0 ? 0.5 : -0.5) * (1 - 0.05 * static_cast<double>(n));
    TruePeakMeter meter(48000);
    meter.push(x);
    const double crest = highest_between(x).first;
    EXPECT_GT(crest, 0.6);
    EXPECT_NEAR(meter.highest(), crest, 1e-15) << start;
  }
}

TEST(BetweenSamples, ShortRunsHoldNothing) {
  for (const std::size_t length : {0UL, 1UL, 32UL})
    EXPECT_EQ(highest_between(std::vector<double>(length, 1.0)).first, 0);
  EXPECT_NEAR(highest_between(std::vector<double>(33, 1.0)).first, 1, 0.01);
  EXPECT_NEAR(highest_between(std::vector<double>(38, -1.0)).first, 1, 0.01);
}

}  // namespace
}  // namespace wavicon::between_samples_test
