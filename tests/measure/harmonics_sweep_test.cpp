// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/sweep.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon::harmonics_sweep_test {
namespace {

using namespace testing;

// Orders 2 and 3 of x + a·x² + b·x³ for a sine of peak p, over the fundamental.
struct Cubic {
  double a, b;
  [[nodiscard]] double operator()(double x) const { return x + a * x * x + b * x * x * x; }
  [[nodiscard]] double fundamental(double p) const { return p + 0.75 * b * p * p * p; }
  [[nodiscard]] double h2_db(double p) const {
    return db_from_ratio(std::abs(a * p * p / 2) / fundamental(p));
  }
  [[nodiscard]] double h3_db(double p) const {
    return db_from_ratio(std::abs(b * p * p * p / 4) / fundamental(p));
  }
};

template <typename Device>
Sheet swept(const Device& device, double rate, double seconds = 6, int orders = 10,
            double noise_dbfs = -140) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false, .silence_before_s = 0.1, .silence_after_s = 0.1};
  recipe.parts.push_back(
      {.kind = Sweep{.from_hz = 18, .to_hz = 22000, .seconds = seconds, .level_dbfs = -6}});
  Stimulus stimulus(recipe);
  Signal y = rendered(stimulus);
  for (double& v : y) v = device(v);
  y = added(y, noise(y.size(), noise_dbfs, 3));
  const Audio audio = audio_of(y, rate);
  MemorySource source(audio);
  return harmonics_over_frequency(measure_aliasing(played(source, stimulus, Take{}), 0), orders,
                                  {"x.wav", "", rate, 1, 0});
}

const Curve* curve(const Sheet& sheet, const std::string& name) {
  for (const Curve& c : sheet.curves)
    if (c.name == name) return &c;
  return nullptr;
}

TEST(HarmonicsOverFrequency, ACubicReadsItsClosedFormFrom25HzToHalfTheRate) {
  const Cubic device{0.1, -0.05};
  const double peak = ratio_from_db(-6);
  for (const double rate : {48000.0, 96000.0}) {
    const Sheet sheet = swept(device, rate);
    for (const auto& [name, order, truth] :
         {std::tuple{"H2", 2, device.h2_db(peak)}, {"H3", 3, device.h3_db(peak)}}) {
      const Curve* c = curve(sheet, name);
      ASSERT_NE(c, nullptr);
      for (std::size_t i = 0; i < c->x.size(); ++i) {
        EXPECT_NEAR(c->y[i], truth, 0.02) << name << " at " << c->x[i];
        EXPECT_LT(order * c->x[i], rate / 2);
      }
      EXPECT_LT(c->x.front(), 25);
      EXPECT_GT(c->x.back() * order, std::min(0.45 * rate, order * 20000.0));
    }
    // What a base-rate device folds is no harmonic: nothing stands where orders 4 to 10 would.
    for (int k = 4; k <= 10; ++k) EXPECT_EQ(curve(sheet, "H" + std::to_string(k)), nullptr) << k;
    const double thd =
        db_from_ratio(std::hypot(ratio_from_db(device.h2_db(peak)), ratio_from_db(device.h3_db(peak))));
    EXPECT_NEAR(*find_reading(sheet, "thd_db", 0)->value, thd, 0.02);
    EXPECT_NEAR(*find_reading(sheet, "thd_max_db", 0)->value, thd, 0.02);
  }
}

TEST(HarmonicsOverFrequency, FoldedProductsAreNotMistakenForHarmonics) {
  // tanh at the base rate folds up to high orders, right across the harmonics.
  const auto device = [](double v) { return std::tanh(3 * v) / 3; };
  const Sheet sheet = swept(device, 48000);
  const Curve* third = curve(sheet, "H3");
  ASSERT_NE(third, nullptr);
  for (std::size_t i = 1; i < third->x.size(); ++i)
    EXPECT_NEAR(third->y[i], third->y[0], 0.05) << third->x[i];
  EXPECT_EQ(curve(sheet, "H2"), nullptr) << "an odd curve has no even orders";
}

TEST(HarmonicsOverFrequency, NoiseIsLeftOutAndSaid) {
  const Sheet sheet = swept([](double v) { return v; }, 48000, 4, 10, -60);
  EXPECT_EQ(find_reading(sheet, "thd_db", 0), nullptr);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [] { (void)harmonics_over_frequency({}, 11, {}); }).find("2 to 10"),
      std::string::npos);
}

}  // namespace
}  // namespace wavicon::harmonics_sweep_test
