// SPDX-License-Identifier: MIT
#include "wavicon/audio/elementary.hpp"

#include <bit>
#include <cmath>
#include <numbers>
#include <vector>

#include "support.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::elementary_test {
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

// Side by side they are the same bits, signs of zero too: what was generated once stays what it was.
TEST(Elementary, ManySinesAreTheSameBits) {
  std::vector<Phase> phases;
  for (int quarter = 0; quarter < 8; ++quarter)
    for (int off = -3; off <= 3; ++off)
      phases.push_back((static_cast<Phase>(quarter) << 61) + static_cast<Phase>(off));
  for (std::uint64_t i = 0; i < 200000; ++i) phases.push_back(random_bits(3, 0, i) >> (i % 64));
  std::vector<double> out(phases.size());
  sines(phases, out);
  for (std::size_t i = 0; i < phases.size(); ++i)
    ASSERT_EQ(std::bit_cast<std::uint64_t>(out[i]), std::bit_cast<std::uint64_t>(sine(phases[i])))
        << phases[i];
  for (const std::size_t length : {0U, 1U, 63U, 64U, 65U, 1000U}) {
    const Phase origin = random_bits(4, 0, length), step = phase_step(997.3, 44100);
    std::vector<double> tone(length);
    steady_sines(origin, step, tone);
    for (std::size_t n = 0; n < length; ++n) ASSERT_EQ(tone[n], sine(origin + step * n)) << n;
  }
}

TEST(Elementary, ManyPhasesAreTheSameBits) {
  std::vector<double> cycles = {0,
                                0.5,
                                1,
                                1.5,
                                0x1p-33,
                                0x1p-64,
                                0x1p-65,
                                0x1p-66,
                                0x3p-66,
                                1 - 0x1p-53,
                                0x1.fffffffffffffp-66,
                                1e-300,
                                0x1p51 + 0.5,
                                12345678.25};
  for (std::uint64_t i = 0; i < 200000; ++i)
    cycles.push_back(std::ldexp(random_uniform(5, 0, i), static_cast<int>(i % 110) - 70));
  const std::size_t half = cycles.size();
  for (std::size_t i = 0; i < half; ++i) cycles.push_back(-cycles[i]);
  std::vector<Phase> out(cycles.size());
  phases_from_cycles(cycles, out);
  for (std::size_t i = 0; i < cycles.size(); ++i)
    ASSERT_EQ(out[i], phase_from_cycles(cycles[i])) << cycles[i];
}

TEST(Elementary, AGlideIsTheSameInRows) {
  for (const double to : {20000.0, 20.0, 3.0}) {
    const GlidingPhase phase(20, to, 480000, 48000);
    for (const std::uint64_t first :
         {std::uint64_t{0}, std::uint64_t{1}, std::uint64_t{479000}, (std::uint64_t{1} << 32) - 500}) {
      std::vector<Phase> row(500);
      phase.fill(first, row);
      for (std::size_t i = 0; i < row.size(); ++i) ASSERT_EQ(row[i], phase.at(first + i)) << first + i;
    }
  }
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

TEST(Elementary, ManyArctangentsAreThoseOfEach) {
  std::vector<double> values = {0.0,      -0.0,      1.0, -1.0,  std::nextafter(1.0, 2),
                                INFINITY, -INFINITY, NAN, 5e-324};
  for (std::uint64_t i = 0; i < 1001; ++i)
    values.push_back(std::pow(10.0, 24 * random_uniform(3, 0, i) - 12) * (i % 2 == 0 ? 1 : -1));
  std::vector<double> together = values;
  arctangent(together);
  for (std::size_t i = 0; i < values.size(); ++i)
    EXPECT_EQ(std::bit_cast<std::uint64_t>(together[i]), std::bit_cast<std::uint64_t>(arctangent(values[i])))
        << values[i];
  arctangent(std::span<double>());
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
}  // namespace wavicon::elementary_test
