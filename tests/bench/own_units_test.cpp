// SPDX-License-Identifier: MIT
// Plans over classes of the program itself, as bench calls them by own:NAME.

#include <cmath>

#include "bench/store.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/run.hpp"
#include "wavicon/testing/processor.hpp"

namespace wavicon::own_units_test {
namespace {

using testing::message_of;

// x + a·x³: of a sine of peak A, H3 is a·A²/4 over 1 + 3/4·a·A².
struct Cubic {
  double share;
  double operator()(double x) const { return x + share * x * x * x; }
};

BenchOptions with_cubic() {
  BenchOptions options;
  options.units.own = {own_unit("cubic",
                                {{.symbol = "share", .name = "Share of the cube", .minimum = 0, .maximum = 1},
                                 {.symbol = "late", .name = "Delay", .maximum = 64, .integer = true}},
                                [](const std::vector<double>& values) {
                                  return Processor(Cubic{values[0]}).with_latency(std::llround(values[1]));
                                })};
  return options;
}

constexpr const char* kPlan = R"(
name = "cubic"
through = ["own:cubic?share={share}"]
[[play.part]]
kind = "tone"
frequency_hz = 997
level_dbfs = -6
seconds = 0.6
[rows]
share = [0.01, 0.1]
[[measure]]
with = "harmonics"
[[limit]]
keep = "h3_dbc<-50"
)";

double value_of(const CellResult& cell, const std::string& name) {
  for (const Sheet& sheet : cell.sheets)
    for (const Reading& r : sheet.readings)
      if (r.name == name) return r.value.value();
  throw std::out_of_range(name);
}

TEST(OwnUnits, AreFedAndMeasuredInEveryCell) {
  const Plan plan = parse_plan(kPlan, "plan", "");
  BenchOptions options = with_cubic();
  options.jobs = 2;
  const auto results = run_cells(plan, cells_of(plan), options);
  ASSERT_EQ(results.size(), 2U);
  const double peak_squared = std::pow(ratio_from_db(-6.0), 2);
  constexpr double kWithin = 0.001;  // dB: samples are narrowed to float on their way
  for (std::size_t i = 0; i < 2; ++i) {
    const double share = i == 0 ? 0.01 : 0.1;
    ASSERT_EQ(results[i].state, CellResult::State::measured) << results[i].reason;
    EXPECT_NEAR(value_of(results[i], "h3_dbc"),
                db_from_ratio(share * peak_squared / 4 / (1 + 0.75 * share * peak_squared)), kWithin);
  }
  const auto limits = check_limits(plan, results);
  ASSERT_EQ(limits.size(), 2U);
  EXPECT_EQ(limits[0].result.outcome, LimitResult::Outcome::kept);
  EXPECT_EQ(limits[1].result.outcome, LimitResult::Outcome::broken);
}

TEST(OwnUnits, AreKnownAsLongAsTheProgramIsTheSame) {
  const testing::TemporaryFolder folder;
  const Plan plan = parse_plan(kPlan, "plan", "");
  BenchOptions options = with_cubic();
  Logbook logbook(folder.file("logbook.sqlite"), Logbook::Access::keep);
  options.logbook = &logbook;
  EXPECT_EQ(run_cells(plan, cells_of(plan), options)[0].state, CellResult::State::measured);
  EXPECT_EQ(run_cells(plan, cells_of(plan), options)[0].state, CellResult::State::known);
}

TEST(OwnUnits, AreRefusedAsOthersAre) {
  const auto open = [](const std::string& text) { (void)open_unit(parse_unit(text), with_cubic().units); };
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { open("own:cubik"); }), "did you mean 'cubic'");
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { open("own:cubic?share=2"); }), "0 to 1");
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { open("own:cubic?shape=1"); }), "'share'");
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)open_unit(parse_unit("own:cubic")); }),
             "unknown scheme");
  const auto listed = list_units(with_cubic().units);
  EXPECT_TRUE(
      std::any_of(listed.begin(), listed.end(), [](const UnitListing& u) { return u.name == "own:cubic"; }));
}

}  // namespace
}  // namespace wavicon::own_units_test
