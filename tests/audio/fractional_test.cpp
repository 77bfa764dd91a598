// SPDX-License-Identifier: MIT
#include "wavicon/audio/fractional.hpp"

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::fractional_test {
namespace {

using namespace testing;

constexpr double kWorstDb = -160;

TEST(FractionalReader, ReadsATonesValueAtAnyPlace) {
  const FractionalReader reader;
  for (const double hz : {0.001, 0.05, 0.2, 0.4})
    for (const double step : {1.0, 1.00002, 0.9997, 0.5})
      for (const double first : {200.0, 200.37, 200.999}) {
        std::vector<double> x, y(300);
        for (int n = 0; n < 800; ++n) x.push_back(exact_sine(hz, 1, n));
        reader.read(x, first, step, y);
        double worst = 0;
        for (std::size_t n = 0; n < y.size(); ++n)
          worst = std::max(
              worst, std::abs(y[n] - std::sin(2 * M_PI * hz * (first + static_cast<double>(n) * step))));
        EXPECT_LT(db_from_ratio(worst + 1e-20), kWorstDb) << hz << " " << step << " " << first;
      }
}

TEST(FractionalReader, AValueDoesNotDependOnWhatIsReadBesideIt) {
  constexpr double kRounding = 2e-15;
  const FractionalReader reader;
  std::vector<double> x;
  for (int n = 0; n < 400; ++n) x.push_back(exact_sine(0.17, 0.9, n));
  std::vector<double> one(1);
  for (const double step : {1.0, 1.00002, 0.9991, 1.03})
    for (std::size_t count = 1; count <= 75; ++count) {
      std::vector<double> all(count);
      reader.read(x, 150.3, step, all);
      for (std::size_t n = 0; n < count; ++n) {
        reader.read(x, 150.3 + static_cast<double>(n) * step, step, one);
        ASSERT_NEAR(all[n], one[0], step == 1 ? 1e-12 : kRounding * 100)
            << step << " " << n << " of " << count;
      }
    }
}

TEST(FractionalReader, OutsideIsSilence) {
  const FractionalReader reader;
  std::vector<double> y(10, 1.0);
  reader.read({}, 0.5, 1, y);
  EXPECT_EQ(peak(y), 0);
  const std::vector<double> one = {1.0};
  reader.read(one, 0, 1, y);
  EXPECT_NEAR(y[0], 1, 1e-12);
  reader.read(one, -1e6, 1, y);
  EXPECT_EQ(peak(y), 0);
}

}  // namespace
}  // namespace wavicon::fractional_test
