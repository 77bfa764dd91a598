// SPDX-License-Identifier: MIT
#include "wavicon/measure/dynamics/static_curve.hpp"

#include "measure/programme.hpp"

namespace wavicon::static_curve_test {
namespace {

using namespace testing;
using Kind = StaticCurve::Kind;

struct Curve {
  bool above;
  double threshold, slope, knee, makeup;
};

double gain(const Curve& c, double in) {
  const double over = c.above ? in - c.threshold : c.threshold - in;
  const double bent = over <= -c.knee / 2  ? 0
                      : over >= c.knee / 2 ? over
                                           : (over + c.knee / 2) * (over + c.knee / 2) / (2 * c.knee);
  return c.makeup + (c.above ? 1 : -1) * (c.slope - 1) * bent;
}

StaticCurve fitted(const Curve& c, double step, double noise_db = 0, double range_db = 1e9,
                   std::uint64_t seed = 1) {
  std::vector<LevelPair> levels;
  for (double in = -60; in <= 0; in += step) {
    const double g = std::max(c.makeup - range_db, gain(c, in)) + noise_db * gaussian(seed, levels.size());
    levels.push_back({in, in + g});
  }
  return fit_static_curve(levels);
}

TEST(StaticCurve, IsExactOnCleanLevels) {
  const std::pair<Curve, Kind> cases[] = {
      {{true, -20, 1 / 4.0, 0, 0}, Kind::compressor},   {{true, -24.5, 1 / 1.5, 6, 3}, Kind::compressor},
      {{true, -30, 1 / 2.0, 20, -2}, Kind::compressor}, {{true, -10, 1 / 20.0, 3, 0}, Kind::compressor},
      {{true, -6, 0.01, 0, 1}, Kind::limiter},          {{true, -20, 1.3, 4, 0}, Kind::upward_expander},
      {{false, -30, 2, 4, 0}, Kind::expander},          {{false, -25, 0.5, 5, 0}, Kind::upward_compressor}};
  for (const auto& [c, kind] : cases) {
    const StaticCurve f = fitted(c, 1);
    const std::string what = name_of(kind) + " " + std::to_string(c.slope);
    EXPECT_EQ(f.kind, kind) << what << ": " << name_of(f.kind);
    EXPECT_NEAR(f.threshold_dbfs, c.threshold, 0.02) << what;
    EXPECT_NEAR(f.slope, c.slope, 0.01 * c.slope + 1e-4) << what;
    EXPECT_NEAR(f.makeup_db, c.makeup, 0.01) << what;
    if (c.knee > 1) {
      EXPECT_NEAR(f.knee_db, c.knee, 0.05) << what;
      EXPECT_FALSE(f.knee_undecided()) << what;
    } else {
      EXPECT_TRUE(f.knee_undecided()) << what;
    }
    for (double in = -60; in <= 0; in += 0.5) EXPECT_NEAR(f.gain_db(in), gain(c, in), 0.05) << what << in;
  }
}

TEST(StaticCurve, HoldsItsAccuracyInNoise) {
  for (std::uint64_t seed = 1; seed <= 10; ++seed) {
    const StaticCurve f = fitted({true, -20, 0.25, 6, 0}, 1, 0.02, 1e9, seed);
    EXPECT_NEAR(f.threshold_dbfs, -20, 0.06);
    EXPECT_NEAR(*f.ratio(), 4, 0.2);
    const StaticCurve coarse = fitted({true, -20, 0.25, 0, 0}, 2, 0.1, 1e9, seed);
    EXPECT_NEAR(coarse.threshold_dbfs, -20, 0.35);
  }
}

TEST(StaticCurve, AGateEndsItsRange) {
  const StaticCurve f = fitted({false, -40, 12, 0, 0}, 1, 0, 30);
  EXPECT_EQ(f.kind, Kind::gate);
  EXPECT_NEAR(f.threshold_dbfs, -40, 0.3);
  ASSERT_TRUE(f.range_from_dbfs);
  EXPECT_NEAR(f.gain_db(-55), -30, 0.1);
  const StaticCurve clamped = fitted({true, -40, 0.25, 0, 0}, 1, 0, 12);
  EXPECT_EQ(clamped.kind, Kind::compressor);
  EXPECT_NEAR(clamped.threshold_dbfs, -40, 0.05);
  EXPECT_NEAR(*clamped.ratio(), 4, 0.05);
  EXPECT_NEAR(clamped.gain_db(-5), -12, 0.05);
}

TEST(StaticCurve, ALimitHasNoRatioAndAWireNoThreshold) {
  EXPECT_FALSE(fitted({true, -20, 0.001, 0, 0}, 2).ratio());
  const StaticCurve wire = fitted({true, 10, 0.5, 0, -1.5}, 2);
  EXPECT_EQ(wire.kind, Kind::linear);
  EXPECT_NEAR(wire.makeup_db, -1.5, 1e-9);
  EXPECT_NEAR(wire.gain_db(-7), -1.5, 1e-9);
}

TEST(StaticCurve, RefusesWhatIsNoCurve) {
  const LevelPair few[] = {{-20, -20}, {-10, -15}};
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)fit_static_curve(few); }).find("at least 4"),
            std::string::npos);
  const LevelPair falling[] = {{-20, -20}, {-10, -15}, {-12, 0}, {-4, 0}};
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)fit_static_curve(falling); }).find("rise"),
            std::string::npos);
  const LevelPair broken[] = {{-20, -20}, {-10, NAN}, {-8, 0}, {-4, 0}};
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)fit_static_curve(broken); }).find("finite"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::static_curve_test
