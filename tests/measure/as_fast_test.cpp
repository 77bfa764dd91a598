// SPDX-License-Identifier: MIT
#include "wavicon/measure/dynamics/as_fast.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <vector>

namespace wavicon::as_fast_test {
namespace {

// A unit that takes 1.7 times the panel's value to the power 0.9.
double law_s(double panel_ms) { return 1.7e-3 * std::pow(panel_ms, 0.9); }

std::vector<RungTime> ladder(std::initializer_list<double> panel_ms, double share = 0.001) {
  std::vector<RungTime> rungs;
  for (const double ms : panel_ms) rungs.push_back({ms, law_s(ms), share * law_s(ms)});
  return rungs;
}

TEST(AsFast, APowerOfThePanelIsFoundBetweenTwoRungs) {
  const auto rungs = ladder({1, 5, 10, 20, 50});
  for (const double ms : {1.0, 1.3, 4.0, 7.7, 12.0, 20.0, 49.0}) {
    const auto found = as_fast_as(rungs, law_s(ms), 0.001 * law_s(ms));
    ASSERT_TRUE(found) << ms;
    EXPECT_NEAR(found->panel_ms, ms, 1e-9 * ms);
    EXPECT_LE(found->below_ms, ms);
    EXPECT_GE(found->above_ms, ms);
    EXPECT_FALSE(found->faster || found->slower);
  }
}

TEST(AsFast, FromARungAtZeroTheTimeGoesStraight) {
  const std::vector<RungTime> rungs = {{0, 1e-4, 1e-6}, {2, 3e-3, 3e-5}};
  const auto found = as_fast_as(rungs, 1e-4 + 0.25 * 2.9e-3, 1e-6);
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->panel_ms, 0.5, 1e-9);
}

// Whatever the unit's law is between two rungs, the truth lies within what is stated.
TEST(AsFast, WhatTheLawBetweenRungsMayBeIsUncertain) {
  for (const double power : {0.5, 0.9, 1.0, 1.2})
    for (const double ms : {6.0, 7.0, 8.5}) {
      const auto law = [&](double panel) { return 2e-3 * (1 + std::pow(panel, power)); };
      const std::vector<RungTime> rungs = {{5, law(5), 0.01 * law(5)}, {10, law(10), 0.01 * law(10)}};
      const auto found = as_fast_as(rungs, law(ms), 0.01 * law(ms));
      ASSERT_TRUE(found);
      EXPECT_NEAR(found->panel_ms, ms, found->uncertainty_ms) << power;
      EXPECT_LT(found->uncertainty_ms, 0.1 * ms) << power;
    }
  // Times that are uncertain make the panel's value uncertain, by the slope between the rungs.
  const std::vector<RungTime> rungs = {{10, 0.010, 0.001}, {20, 0.020, 0.001}};
  EXPECT_NEAR(as_fast_as(rungs, 0.015, 0.002)->uncertainty_ms, std::hypot(2.0, 0.5, 0.5), 0.2);
}

TEST(AsFast, BeyondTheLadderItIsABound) {
  const auto rungs = ladder({5, 10, 20});
  const auto fast = as_fast_as(rungs, law_s(2), 1e-6), slow = as_fast_as(rungs, law_s(80), 1e-6);
  ASSERT_TRUE(fast && slow);
  EXPECT_TRUE(fast->faster);
  EXPECT_EQ(fast->panel_ms, 5);
  EXPECT_TRUE(slow->slower);
  EXPECT_EQ(slow->panel_ms, 20);
  // Within what is uncertain of both it is the end itself.
  const auto end = as_fast_as(rungs, law_s(20) * 1.0005, 0.001 * law_s(20));
  ASSERT_TRUE(end);
  EXPECT_FALSE(end->slower);
  EXPECT_NEAR(end->panel_ms, 20, 1e-9);
}

TEST(AsFast, ALadderThatDoesNotRiseTellsNothing) {
  EXPECT_FALSE(as_fast_as({}, 0.01, 0));
  EXPECT_FALSE(as_fast_as(ladder({5}), 0.01, 0));
  const std::vector<RungTime> same = {{5, 0.120, 0.001}, {10, 0.1205, 0.001}, {20, 0.121, 0.001}},
                              falls = {{5, 0.3, 0.001}, {10, 0.2, 0.001}};
  EXPECT_FALSE(as_fast_as(same, 0.1205, 0.001));
  EXPECT_FALSE(as_fast_as(falls, 0.25, 0.001));
  EXPECT_FALSE(as_fast_as(ladder({5, 10}), 0, 0));
}

}  // namespace
}  // namespace wavicon::as_fast_test
