// SPDX-License-Identifier: MIT
#include "wavicon/audio/transform.hpp"

#include <numbers>

#include "support.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::transform_test {
namespace {

using testing::message_of;

constexpr double kRounding = 1e-13;  // of sums over some thousand samples below 1

std::vector<double> noise(std::size_t length, std::uint64_t seed) {
  std::vector<double> x(length);
  for (std::size_t i = 0; i < length; ++i) x[i] = 2 * random_uniform(seed, 0, i) - 1;
  return x;
}

TEST(RealTransform, AgreesWithToneSumsAtEveryLength) {
  for (const std::size_t length : {1U, 2U, 3U, 4U, 16U, 18U, 22U, 62U, 63U, 64U, 65U, 66U, 500U}) {
    const auto x = noise(length, length);
    RealTransform transform(length);
    std::copy(x.begin(), x.end(), transform.input().begin());
    transform.execute();
    ASSERT_EQ(transform.bins().size(), length / 2 + 1);
    for (std::size_t k = 0; k < transform.bins().size(); ++k) {
      const auto sum = tone_sum(x, phase_step(static_cast<double>(k), static_cast<double>(length)));
      EXPECT_NEAR(std::abs(transform.bins()[k] - sum), 0.0, kRounding * 10) << length << " bin " << k;
    }
  }
}

TEST(RealTransform, PowersAreThoseOfItsBins) {
  constexpr double kScale = 0.37;
  for (const std::size_t length : {1U, 2U, 3U, 4U, 6U, 18U, 20U, 62U, 64U, 65U, 66U, 98U, 4802U, 8192U}) {
    const auto x = noise(length, length);
    RealTransform transform(length);
    std::copy(x.begin(), x.end(), transform.input().begin());
    transform.execute();
    std::vector<double> powers(length / 2 + 1), expected;
    for (const auto& bin : transform.bins())
      expected.push_back(kScale * (bin.real() * bin.real() + bin.imag() * bin.imag()));
    const double sum = transform.bins()[0].real();
    std::copy(x.begin(), x.end(), transform.input().begin());
    EXPECT_EQ(transform.execute_squares(kScale, powers), sum) << length;
    for (std::size_t k = 0; k < powers.size(); ++k)
      EXPECT_NEAR(powers[k], expected[k], 1e-15 * (1 + expected[k])) << length << " bin " << k;
  }
}

TEST(RealTransform, RefusesLengthZero) {
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { RealTransform(0); }).find("length"), std::string::npos);
}

TEST(ToneSums, DerivativesAgreeWithTheirDefinition) {
  const auto x = noise(333, 5);
  const Phase step = phase_step(1234.5, 48000);
  std::complex<double> zeroth = 0, first = 0, second = 0;
  for (std::size_t n = 0; n < x.size(); ++n) {
    const std::complex<double> term =
        x[n] * std::polar(1.0, -2 * std::numbers::pi * 1234.5 / 48000 * static_cast<double>(n));
    zeroth += term;
    first += static_cast<double>(n) * term;
    second += static_cast<double>(n * n) * term;
  }
  const ToneSums sums = tone_sums(x, step);
  EXPECT_NEAR(std::abs(sums.zeroth - zeroth), 0, kRounding * 10);
  EXPECT_NEAR(std::abs(sums.first - first), 0, kRounding * 3330);
  EXPECT_NEAR(std::abs(sums.second - second), 0, kRounding * 1108890);
  EXPECT_NEAR(std::abs(tone_sum(x, step) - zeroth), 0, kRounding * 10);
}

TEST(AddTone, TakesOutWhatToneSumFinds) {
  std::vector<double> x(64 * 5 + 7, 0.0);
  const Phase step = phase_step(5, 48);
  add_tone(x, step, std::polar(0.5, 0.3));
  for (std::size_t n = 0; n < x.size(); ++n)
    ASSERT_NEAR(x[n], 0.5 * std::cos(2 * std::numbers::pi * 5 / 48 * static_cast<double>(n) + 0.3), 1e-13);
}

TEST(FastTransformLength, IsFastAndNeverShorter) {
  for (const std::size_t least : {0U, 1U, 2U, 1000U, 262144U, 262145U, 1000003U}) {
    std::size_t length = fast_transform_length(least);
    EXPECT_GE(length, least);
    EXPECT_EQ(length % 2, 0U);
    for (const std::size_t factor : {2U, 3U, 5U, 7U})
      while (length % factor == 0) length /= factor;
    EXPECT_EQ(length, 1U);
  }
}

TEST(KaiserWindow, AgreesWithItsClosedFormTransform) {
  // The continuous window's transform is sinh(sqrt(β² - (πx)²))/sqrt(…) at x bins; sums over many samples
  // come close to it.
  for (const double beta : {2.0, 8.0, 14.0, 38.0}) {
    const std::size_t length = 4096;
    const auto window = kaiser_window(length, beta);
    const double at_zero = tone_sum(window, 0).real();
    for (const double bins : {0.5, 1.0, 1.7}) {
      const double root = std::sqrt(beta * beta - std::pow(std::numbers::pi * bins, 2));
      const double expected = (std::isnan(root) ? 0.0 : std::sinh(root) / root) / (std::sinh(beta) / beta);
      if (std::isnan(root)) continue;
      const double got = std::abs(tone_sum(window, phase_step(bins, static_cast<double>(length)))) / at_zero;
      EXPECT_NEAR(got, expected, 2e-6) << beta << " at " << bins;
    }
  }
}

TEST(KaiserWindow, SkirtsLieWhereTheEnvelopeSays) {
  const auto window = kaiser_window(4096, 38);
  const double at_zero = tone_sum(window, 0).real();
  EXPECT_LT(std::abs(tone_sum(window, phase_step(13.0, 4096))) / at_zero, 1e-15);
  const auto wide = kaiser_window(4096, 10);
  const double zero = tone_sum(wide, 0).real();
  double highest = 0;
  for (double bins = 50; bins < 52; bins += 0.05)
    highest = std::max(highest, std::abs(tone_sum(wide, phase_step(bins, 4096))) / zero);
  EXPECT_NEAR(highest / kaiser_skirt_ratio(10, 50.5), 1.0, 0.05);
}

TEST(KaiserWindow, EdgesOfItsRange) {
  EXPECT_TRUE(kaiser_window(0, 8).empty());
  EXPECT_EQ(kaiser_window(1, 8).front(), 1.0);
  for (const double w : kaiser_window(7, 0)) EXPECT_DOUBLE_EQ(w, 1.0);
  KaiserWindows windows;
  EXPECT_EQ(windows.get(64, 8).data(), windows.get(64, 8).data());
}

TEST(SymmetricSystem, SolvesAndKnowsWhenItCannot) {
  const std::vector<double> matrix = {4, 0, 0, 1, 3, 0, 2, 1, 5};  // only the lower triangle counts
  const SymmetricSystem system(matrix, 3);
  EXPECT_TRUE(system.well_posed());
  const auto x = system.solve(std::vector<double>{7, 5, 8});
  EXPECT_NEAR(4 * x[0] + x[1] + 2 * x[2], 7, 1e-12);
  EXPECT_NEAR(x[0] + 3 * x[1] + x[2], 5, 1e-12);
  EXPECT_NEAR(2 * x[0] + x[1] + 5 * x[2], 8, 1e-12);
  EXPECT_FALSE(SymmetricSystem(std::vector<double>{1, 0, 1, 1}, 2).well_posed());
}

}  // namespace
}  // namespace wavicon::transform_test
