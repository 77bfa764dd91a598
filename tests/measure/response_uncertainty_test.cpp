// SPDX-License-Identifier: MIT
// Uncertainties of responses, by repetition: noise over a sweep, over noise that repeats, over noise.
#include "measure/judged.hpp"
#include "measure/repetitions.hpp"
#include "measure/responses.hpp"

namespace wavicon::response_uncertainty_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;

// Of places of the curve, how many lie within their uncertainty.
struct Places {
  int within = 0, count = 0;
  double uncertainty = 0;
  void add(const ResponseResult& result, const std::vector<Section>& filter, double from_hz, double to_hz) {
    for (const ResponsePoint& p : result.channels[0].points) {
      if (p.hz < from_hz || p.hz > to_hz) continue;
      ++count;
      uncertainty += p.uncertainty_db;
      within +=
          std::abs(db_from_ratio(std::abs(p.ratio) / std::abs(of(filter, p.hz, kRate)))) <= p.uncertainty_db;
    }
  }
  [[nodiscard]] double share() const { return static_cast<double>(within) / count; }
};

TEST(ResponseUncertainty, OfASweepUnderNoise) {
  const std::vector<Section> filter = {bell(3000, 6, 2, kRate)};
  const Signal x = sweep(kRate), y = through(x, filter);
  for (const double dbfs : {-50.0, -80.0}) {
    Places low, high;
    Repetitions seen(
        {{"gain_db", db_from_ratio(std::abs(of(filter, 1000, kRate)))}, {"bell_hz", 3000}, {"bell_db", 6}});
    for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(repetitions(100)); ++seed) {
      const auto result = response_of(x, added(y, noise(y.size(), dbfs, 300 + seed)), kRate, sweep_options());
      low.add(result, filter, 40, 150);
      high.add(result, filter, 150, 19000);
      const Sheet sheet = response_sheet(result, {}, {});
      seen.add(sheet);
    }
    EXPECT_GT(low.share(), 0.92) << dbfs;
    // Where noise is low, what the method is sure to says more.
    EXPECT_LT(low.share(), dbfs > -60 ? 0.995 : 1.1) << dbfs;
    EXPECT_GT(high.share(), 0.93) << dbfs;
    EXPECT_LT(high.share(), 0.985) << dbfs;
    seen.expect_honest(std::to_string(dbfs));
  }
}

TEST(ResponseUncertainty, OfAveragedSpectra) {
  const std::vector<Section> filter = {bell(3000, 6, 2, kRate)};
  Places all;
  Repetitions seen({{"gain_db", db_from_ratio(std::abs(of(filter, 1000, kRate)))}});
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(repetitions(100)); ++seed) {
    const Signal x = noise(8 * 48000, -30, 50 + seed),
                 y = added(through(x, filter), noise(8 * 48000, -40, 5000 + seed));
    ResponseOptions options;
    options.alignment = Alignment{};
    const auto result = response_of(x, y, kRate, options);
    all.add(result, filter, 100, 19000);
    seen.add(response_sheet(result, {}, {}));
  }
  EXPECT_GT(all.share(), 0.93);
  EXPECT_LT(all.share(), 0.98);
  seen.expect_honest("averaged");
}

TEST(ResponseUncertainty, OfNoiseThatRepeats) {
  constexpr std::int64_t kPeriod = 65536;
  const std::vector<Section> filter = {bell(3000, 6, 2, kRate)};
  const Signal one = noise(kPeriod, -30, 9);
  Signal x;
  for (int i = 0; i < 4; ++i) x.insert(x.end(), one.begin(), one.end());
  const Signal y = through(x, filter);
  Places all;
  ResponseOptions options{.period_frames = kPeriod};
  options.alignment = Alignment{};
  for (std::uint64_t seed = 0; seed < 100; ++seed)
    all.add(response_of(x, added(y, noise(y.size(), -60, 700 + seed)), kRate, options), filter, 100, 19000);
  EXPECT_GT(all.share(), 0.92);
  EXPECT_LT(all.share(), 0.985);
}

// One pole and one zero: gain_db above the corner, 0 dB below (bilinear).
Section first_shelf(double hz, double gain_db) {
  const double k = std::tan(M_PI * hz / kRate), root = ratio_from_db(gain_db / 2);
  return {(root * root + root * k) / (1 + root * k), (root * k - root * root) / (1 + root * k), 0,
          (root * k - 1) / (1 + root * k), 0};
}

// What noise makes is no hump, and a shelf has no edge.
TEST(ResponseUncertainty, FeaturesThatNoiseMakesAreNotNamed) {
  const Signal x = sweep(kRate);
  int humps = 0;
  for (std::uint64_t seed = 0; seed < 20; ++seed)
    humps += response_of(x, added(x, noise(x.size(), -45, 900 + seed)), kRate, sweep_options())
                 .channels[0]
                 .bell.has_value();
  EXPECT_LE(humps, 1);
  const auto shelf = response_of(x, filtered(x, first_shelf(2000, -6)), kRate, sweep_options());
  EXPECT_FALSE(shelf.channels[0].upper);
  ASSERT_TRUE(shelf.channels[0].shelf);
  EXPECT_NEAR(shelf.channels[0].shelf->gain_db, -6, 0.2);
}

}  // namespace
}  // namespace wavicon::response_uncertainty_test
