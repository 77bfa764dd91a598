// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/ladder.hpp"

#include "support.hpp"

namespace wavicon::harmonics_ladder_test {
namespace {

using namespace testing;

// A step whose orders 2 and 3 stand where weak curvatures put them.
LadderStep step_at(double level_dbfs, bool third_is_bound) {
  LadderStep step{997, level_dbfs, {}};
  step.sheet.readings.push_back({"thd_db", 0, level_dbfs - 20, "dB"});
  step.sheet.readings.push_back({"h2_dbc", 0, level_dbfs - 20, "dBc"});
  step.sheet.readings.push_back({"h3_dbc", 0, 2 * level_dbfs - 30, "dBc", std::nullopt, third_is_bound});
  return step;
}

TEST(HarmonicsLadder, AnOrderGrowsByItsNumber) {
  std::vector<LadderStep> steps;
  for (const double level : {-60.0, -50.0, -40.0, -30.0, -20.0}) steps.push_back(step_at(level, level < -45));
  const Sheet ladder = harmonics_ladder(steps, {.channels = 1});
  EXPECT_NEAR(*find_reading(ladder, "h2_growth_db_per_db", 0)->value, 2, 1e-12);
  const Reading& third = *find_reading(ladder, "h3_growth_db_per_db", 0);
  EXPECT_NEAR(*third.value, 3, 1e-12);
  EXPECT_EQ(std::get<std::int64_t>(*find_condition(third, "steps")), 3) << "bounds are left out";
  EXPECT_EQ(std::get<double>(*find_condition(third, "level_from_dbfs")), -40);
  ASSERT_EQ(ladder.curves.size(), 3U);
  EXPECT_EQ(ladder.curves[0].name, "THD");
  EXPECT_EQ(ladder.curves[2].x.size(), 3U);
}

TEST(HarmonicsLadder, FewStepsHaveNoSlope) {
  EXPECT_EQ(find_reading(harmonics_ladder({step_at(-20, false), step_at(-10, false)}, {.channels = 1}),
                         "h2_growth_db_per_db", 0),
            nullptr);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [] { (void)harmonics_ladder({}, {}); }).find("at least one step"),
      std::string::npos);
}

}  // namespace
}  // namespace wavicon::harmonics_ladder_test
