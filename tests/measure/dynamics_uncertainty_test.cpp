// SPDX-License-Identifier: MIT
// Uncertainties of thresholds, ratios and times, by repetition on gains that are known.
#include <gtest/gtest.h>

#include <cmath>
#include <map>

#include "intake/damage.hpp"
#include "measure/repetitions.hpp"
#include "wavicon/audio/least_squares.hpp"
#include "wavicon/measure/dynamics/gain_steps.hpp"
#include "wavicon/measure/dynamics/static_curve.hpp"

namespace wavicon::dynamics_uncertainty_test {
namespace {

using testing::gaussian;

constexpr int kRuns = 300;

void expect_honest(const std::map<std::string, int>& within, double most = 0.98) {
  for (const auto& [name, count] : within) {
    testing::tell_coverage("dynamics", name, count, kRuns);
    EXPECT_GE(count, 0.93 * kRuns - 13) << name;
    EXPECT_LE(count, most * kRuns + 8) << name;
  }
}

TEST(DynamicsUncertainty, OfAStaticCurveUnderNoise) {
  std::map<std::string, int> within;
  for (std::uint64_t seed = 0; seed < kRuns; ++seed) {
    std::vector<LevelPair> levels;
    for (int i = 0; i < 25; ++i) {
      const double in = -50 + 2 * i, over = in + 24,
                   bent = over < -3  ? 0
                          : over > 3 ? over
                                     : (over + 3) * (over + 3) / 12;
      levels.push_back({in, in - 0.75 * bent + 1 + 0.05 * gaussian(40 + seed, static_cast<std::size_t>(i))});
    }
    const StaticCurve curve = fit_static_curve(levels);
    ASSERT_TRUE(curve.uncertainty);
    within["threshold"] += std::abs(curve.threshold_dbfs + 24) <= curve.uncertainty->threshold_db;
    within["slope"] += std::abs(curve.slope - 0.25) <= curve.uncertainty->slope;
    within["makeup"] += std::abs(curve.makeup_db - 1) <= curve.uncertainty->makeup_db;
    if (curve.uncertainty->knee_db)
      within["knee"] += std::abs(curve.knee_db - 6) <= *curve.uncertainty->knee_db;
  }
  expect_honest(within);
  EXPECT_EQ(within.size(), 4u);
}

TEST(DynamicsUncertainty, OfTimesUnderNoise) {
  std::map<std::string, int> within;
  for (std::uint64_t seed = 0; seed < kRuns; ++seed) {
    GainOverTime g;
    for (int i = -1000; i < 2000; ++i) {
      const double t = 1e-4 * i;
      g.time_s.push_back(t);
      g.gain_db.push_back((t < 0 ? 0 : -12 * (1 - std::exp(-t / 0.02))) +
                          0.05 * gaussian(9000 + seed, static_cast<std::size_t>(i + 1000)));
    }
    const GainStep step = measure_gain_step(g, {});
    within["to 63 %"] += std::abs(*step.to_63_s - 0.02) <= step.to_63_uncertainty_s;
    within["to 90 %"] += std::abs(*step.to_90_s - 0.02 * std::log(10.0)) <= step.to_90_uncertainty_s;
    within["constant"] +=
        std::abs(step.models.front().constant_s - 0.02) <= step.models.front().constant_uncertainty_s;
  }
  // A crossing is the first of several: nearer to the truth than single values scatter.
  expect_honest(within, 1);
}

// y = a + b·x with noise: the deviations of straight lines are known in closed form.
TEST(FitDeviations, OfALineAreThoseOfTheClosedForm) {
  constexpr std::size_t kCount = 50;
  std::vector<double> y(kCount);
  for (std::size_t i = 0; i < kCount; ++i) y[i] = 1 + 0.5 * static_cast<double>(i) + gaussian(3, i);
  const Residuals residuals = [&](std::span<const double> p, std::span<double> left) {
    for (std::size_t i = 0; i < kCount; ++i) left[i] = p[0] + p[1] * (static_cast<double>(i) - 24.5) - y[i];
  };
  double mean = 0, xy = 0, xx = 0;
  for (std::size_t i = 0; i < kCount; ++i) {
    mean += y[i] / kCount;
    xy += (static_cast<double>(i) - 24.5) * y[i];
    xx += std::pow(static_cast<double>(i) - 24.5, 2);
  }
  const std::vector<double> at = {mean, xy / xx}, steps = {1e-3, 1e-3};
  double squares = 0;
  std::vector<double> left(kCount);
  residuals(at, left);
  for (const double v : left) squares += v * v;
  const double least = 10;
  const auto found = fit_deviations(residuals, kCount, at, steps, least);
  ASSERT_TRUE(found);
  EXPECT_NEAR((*found)[0], least / std::sqrt(static_cast<double>(kCount)), 1e-6);
  EXPECT_NEAR((*found)[1], least / std::sqrt(xx), 1e-6);
  const auto own = fit_deviations(residuals, kCount, at, steps);
  EXPECT_GE((*own)[0], 0.999 * std::sqrt(squares / (kCount - 2) / kCount));
  // Two parameters that do the same cannot be told apart.
  EXPECT_FALSE(fit_deviations(
      [&](std::span<const double> p, std::span<double> r) {
        for (std::size_t i = 0; i < kCount; ++i) r[i] = p[0] + p[1] - y[i];
      },
      kCount, at, steps));
}

}  // namespace
}  // namespace wavicon::dynamics_uncertainty_test
