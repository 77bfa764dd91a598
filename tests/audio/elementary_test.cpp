// SPDX-License-Identifier: MIT
#include "wavicon/audio/elementary.hpp"

#include <cmath>
#include <numbers>

#include "support.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon {
namespace {

constexpr double kSineError = 2.3e-16;  // absolute: two roundings of a number below 1
constexpr double kArctanError = 8e-16;  // relative

TEST(Elementary, SineAgreesWithEightyBits) {
  for (std::uint64_t i = 0; i < 200000; ++i) {
    const Phase phase = random_bits(1, 0, i);
    const long double cycles = static_cast<long double>(phase) / 18446744073709551616.0L;
    const auto expected = static_cast<double>(std::sin(2 * std::numbers::pi_v<long double> * cycles));
    ASSERT_NEAR(sine(phase), expected, kSineError) << phase;
  }
}

TEST(Elementary, SineIsExactAtQuarters) {
  EXPECT_EQ(sine(0), 0.0);
  EXPECT_EQ(sine(Phase{1} << 62), 1.0);
  EXPECT_EQ(sine(Phase{1} << 63), 0.0);
  EXPECT_EQ(sine(Phase{3} << 62), -1.0);
  EXPECT_EQ(cosine(0), 1.0);
}

TEST(Elementary, ArctangentAgreesWithEightyBits) {
  for (std::uint64_t i = 0; i < 100000; ++i) {
    const double x = std::pow(10.0, 24 * random_uniform(2, 0, i) - 12) * (i % 2 == 0 ? 1 : -1);
    const auto expected = static_cast<double>(std::atan(static_cast<long double>(x)));
    ASSERT_NEAR(arctangent(x), expected, kArctanError * std::abs(expected)) << x;
  }
  EXPECT_EQ(arctangent(0.0), 0.0);
  EXPECT_DOUBLE_EQ(arctangent(INFINITY), std::numbers::pi / 2);
  EXPECT_TRUE(std::isnan(arctangent(NAN)));
}

TEST(Elementary, PhaseDoesNotDriftInADay) {
  for (const double rate : {8000.0, 44100.0, 48000.0, 768000.0})
    for (const double hz : {0.001, 997.0, 997.3, rate * 0.499}) {
      const auto frame = static_cast<std::int64_t>(24 * 3600 * rate) - 1;
      const auto step = phase_step(hz, rate);
      // hz·frame/rate modulo 1 in 128 bits: the fraction of hz/rate as an exact ratio of integers is not at
      // hand, so the remainder is taken by long double in two parts.
      const long double ratio = static_cast<long double>(hz) / rate;
      const auto high = static_cast<std::int64_t>(frame / 65536),
                 low = static_cast<std::int64_t>(frame % 65536);
      const long double part = std::fmod(ratio * 65536, 1.0L);
      const long double expected = std::fmod(part * high + ratio * low, 1.0L);
      const long double got =
          static_cast<long double>(step * static_cast<Phase>(frame)) / 18446744073709551616.0L;
      const long double difference = std::remainder(got - expected, 1.0L);
      EXPECT_NEAR(static_cast<double>(difference), 0.0, 2e-9 + 1e-12 * frame / 65536)
          << hz << " Hz at " << rate;
    }
}

TEST(Elementary, NegativeFrequenciesTurnBackwards) {
  EXPECT_EQ(phase_step(-1000, 48000) + phase_step(1000, 48000), 0U);
  EXPECT_EQ(phase_from_cycles(-0.25), Phase{3} << 62);
  EXPECT_EQ(phase_from_cycles(7.5), Phase{1} << 63);
}

TEST(Elementary, ExponentialAgreesWithEightyBits) {
  for (std::uint64_t i = 0; i < 100000; ++i) {
    const double x = i % 2 == 0 ? 1400 * random_uniform(3, 0, i) - 700 : 2 * random_uniform(3, 0, i) - 1;
    const auto expected = static_cast<double>(std::exp(static_cast<long double>(x)));
    ASSERT_NEAR(exponential(x), expected, 6e-16 * expected) << x;
    const auto less = static_cast<double>(std::expm1(static_cast<long double>(x)));
    ASSERT_NEAR(exponential_minus_one(x), less, 8e-16 * std::abs(less)) << x;
  }
  EXPECT_EQ(exponential(0), 1.0);
  EXPECT_EQ(exponential(-800), 0.0);
  EXPECT_EQ(exponential_minus_one(0), 0.0);
}

TEST(Elementary, GlidingPhaseFollowsItsParabola) {
  for (const auto& [from, to] :
       {std::pair{20.0, 20000.0}, std::pair{15000.0, 100.0}, std::pair{997.0, 997.0}}) {
    const double rate = 48000, frames = 480000;
    const GlidingPhase phase(from, to, frames, rate);
    for (const std::uint64_t n : {0U, 1U, 2U, 999U, 123457U, 480000U}) {
      const long double t = n, bend = (static_cast<long double>(to) - from) / frames;
      const long double cycles = (from * t + bend * t * t / 2) / rate;
      const long double got = static_cast<long double>(phase.at(n)) / 18446744073709551616.0L;
      EXPECT_NEAR(static_cast<double>(std::remainder(got - cycles, 1.0L)), 0, 1e-12)
          << from << " to " << to << " at " << n;
    }
  }
}

TEST(Elementary, ManyExponentialsAreThoseOfEach) {
  std::vector<double> values = {0,    -0.0, 1e-300, -1e-9, 0.3, -0.35, 1, -1, 20,
                                -700, 700,  -701,   -1e9,  5,   6,     7, 8};
  for (int i = 0; i < 1000; ++i) values.push_back(std::sin(i) * (i % 7 == 0 ? 600 : 3));
  auto together = values;
  exponential_minus_one(std::span<double>(together));
  for (std::size_t i = 0; i < values.size(); ++i)
    EXPECT_EQ(together[i], exponential_minus_one(values[i])) << values[i];
}

}  // namespace
}  // namespace wavicon
