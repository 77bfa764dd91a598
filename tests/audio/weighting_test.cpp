// SPDX-License-Identifier: MIT
#include "wavicon/audio/weighting.hpp"

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::weighting_test {
namespace {

constexpr double kRounding = 0.05;  // the tables give one digit

TEST(Weighting, AFollowsTheTableOfTheStandard) {
  // IEC 61672-1, table 3, at exact frequencies 1000·10^(n/10) (to verify).
  for (const auto& [n, db] : {std::pair{-15, -39.4},
                              {-12, -26.2},
                              {-9, -16.1},
                              {-6, -8.6},
                              {-3, -3.2},
                              {0, 0.0},
                              {3, 1.2},
                              {6, 1.0},
                              {9, -1.1},
                              {12, -6.6},
                              {13, -9.3}})
    EXPECT_NEAR(db_from_power_ratio(a_weight(1000 * std::pow(10.0, n / 10.0))), db, kRounding + 0.01) << n;
  EXPECT_NEAR(db_from_power_ratio(a_weight(1000)), 0, 1e-9);
}

TEST(Weighting, Itu468FollowsTheTableOfTheStandard) {
  // ITU-R BS.468-4, table 1 (to verify).
  for (const auto& [hz, db] : {std::pair{31.5, -29.9},
                               {63.0, -23.9},
                               {100.0, -19.8},
                               {200.0, -13.8},
                               {400.0, -7.8},
                               {800.0, -1.9},
                               {1000.0, 0.0},
                               {2000.0, 5.6},
                               {3150.0, 9.0},
                               {4000.0, 10.5},
                               {5000.0, 11.7},
                               {6300.0, 12.2},
                               {7100.0, 12.0},
                               {8000.0, 11.4},
                               {9000.0, 10.1},
                               {10000.0, 8.1},
                               {12500.0, 0.0},
                               {14000.0, -5.3},
                               {16000.0, -11.7}})
    EXPECT_NEAR(db_from_power_ratio(itu_r_468_weight(hz)), db, kRounding + 0.06) << hz;
  EXPECT_NEAR(db_from_power_ratio(itu_r_468_weight(20000)), -22.2, 0.3);
}

// BS.1770: a sine of full scale at 997 Hz in one channel reads -3.01 LUFS, which is what -0.691 is there for.
TEST(Weighting, KGivesTheLoudnessOfTheStandardsSine) {
  EXPECT_NEAR(db_from_power_ratio(k_weight(997)), 0.691, 0.005);
  EXPECT_NEAR(db_from_power_ratio(k_weight(10000)), 4.0, 0.1) << "the shelf";
  EXPECT_LT(db_from_power_ratio(k_weight(20)), -10) << "the high-pass";
  EXPECT_EQ(k_weight(40000), k_weight(30000));
}

TEST(Weighting, NothingCountsAtZero) {
  EXPECT_EQ(a_weight(0), 0);
  EXPECT_EQ(itu_r_468_weight(0), 0);
}

}  // namespace
}  // namespace wavicon::weighting_test
