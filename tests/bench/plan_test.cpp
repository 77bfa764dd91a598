// SPDX-License-Identifier: MIT
#include "wavicon/bench/plan.hpp"

#include <signal.h>

#include "bench/plans.hpp"
#include "bench/store.hpp"
#include "wavicon/bench/run.hpp"
#include "wavicon/present/page_text.hpp"

namespace wavicon::plan_test {
namespace {

using namespace testing;

TEST(Plans, MakeEveryCombinationInTheOrderThatIsWritten) {
  const Plan plan =
      plan_of(plan_with("name = \"n\"\nthrough = [\"sim:tern?drive={drive}&oversampling={times}\"]\n",
                        "[rows]\ntimes = [1, 4]\ndrive = [0, 6.5]\nblock = [64]\n" + kMeasure +
                            "part = \"tone\"\norders = 5\n[[limit]]\nkeep = \"thd_db<-20\"\nwhere = "
                            "\"drive=6.5 times=4\"\n"));
  const auto cells = cells_of(plan);
  ASSERT_EQ(cells.size(), 4u);
  EXPECT_EQ(name_of(cells[0]), "times=1 drive=0 block=64");
  EXPECT_EQ(name_of(cells[1]), "times=1 drive=6.5 block=64");
  EXPECT_EQ(cells[3].chain, (std::vector<std::string>{"sim:tern?drive=6.5&oversampling=4"}));
  EXPECT_EQ(cells[3].block_frames, 64);
  EXPECT_EQ(cells[3].rate_hz, 48000);
  EXPECT_EQ(cells_of(plan, "drive=0").size(), 2u);
  EXPECT_EQ(cells_of(plan, "drive=0 times=4").size(), 1u);
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)cells_of(plan, "drvie=0"); }),
             "did you mean 'drive'");
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)cells_of(plan, "drive=1"); }),
             "row 'drive' does not take '1'");
  ASSERT_EQ(plan.limits.size(), 1u);
  EXPECT_EQ(plan.limits[0].where.size(), 2u);
  const Plan beside =
      plan_of(plan_with("through = [\"sim:tern?drive={drive}&oversampling={times}\"]\nside_by_side = true\n",
                        "[rows]\ntimes = [1, 4]\ndrive = [0, 6]\n" + kMeasure));
  EXPECT_EQ(name_of(cells_of(beside).at(1)), "times=4 drive=6");
  EXPECT_EQ(cells_of(beside).size(), 2u);
  EXPECT_EQ(name_of(cells_of(plan_of(plan_with("", kMeasure))).at(0)), "all");
}

TEST(Plans, EveryErrorHasItsPlaceAndTheNearestName) {
  const std::string chain = "through = [\"sim:tern?drive={drive}\"]\n", rows = "[rows]\ndrive = [0, 6]\n";
  const struct {
    std::string text, told;
  } cases[] = {
      {"", "p.toml:1:1: play: a plan says what is played"},
      {"= 3", "p.toml:1:1: "},
      {plan_with("trough = []\n", kMeasure), "p.toml:1:1: there is no key 'trough'; did you mean 'through'"},
      {plan_with("", ""), "measure: a plan measures something"},
      {plan_with("", "[[measure]]\nwith = \"harmonic\"\n"), "did you mean 'harmonics'"},
      {plan_with("", "[[measure]]\npart = \"x\"\n"), "says with which measurement"},
      {plan_with("", kMeasure + "oders = 5\n"), "harmonics has no option 'oders'; did you mean 'orders'"},
      {plan_with("", kMeasure + "orders = 5.5\n"), "'5.5' is no whole number"},
      {plan_with(chain, kMeasure), "p.toml:1:12: {drive} has no row"},
      {plan_with(chain, "[rows]\ndrive = [0]\ndrvie = [1]\n" + kMeasure), "row 'drvie': nothing uses it"},
      {plan_with(chain, "[rows]\ndrive = []\n" + kMeasure), "is no list of values"},
      {plan_with(chain, "[rows]\ndrive = [6, 6]\n" + kMeasure), "two cells would be alike"},
      {plan_with(chain, "[rows]\ndrive = [0]\nrate = [44100, 5]\n" + kMeasure),
       "5 is no whole number from 8000"},
      {plan_with("through = [\"sim:tern?drive={}\"]\n", kMeasure), "a { without its name"},
      {plan_with(chain, rows + kMeasure + "[[limit]]\nkeep = \"noise_dbfs<-80\"\n"),
       "no measurement of this plan gives a reading 'noise_dbfs'"},
      {plan_with(chain, rows + kMeasure + "[[limit]]\nkeep = \"thd_db\"\n"), "is not NAME<VALUE"},
      {plan_with(chain, rows + kMeasure + "[[limit]]\nkeep = \"thd_db<0\"\nwhere = \"drive=7\"\n"),
       "row 'drive' does not take '7'"},
      {plan_with(chain + "side_by_side = true\n", "[rows]\ndrive = [6, 6]\n" + kMeasure),
       "two cells are alike"},
      {"[play]\nrecipe = \"none.toml\"\n" + kMeasure, "none.toml"},
      {"name = \"a\"\n[play]\nrate = 3\n" + kMeasure, "p.toml:2:1: play: unknown key 'rate'"},
      {"[play]\n[[play.part]]\nkind = \"tonne\"\n" + kMeasure, "tonne"},
  };
  for (const auto& [text, told] : cases)
    EXPECT_HAS(message_of(ErrorCode::bad_input, [&, &of = text] { (void)plan_of(of); }), told) << text;
  std::string many = "through = [\"sim:tern?a={a}&b={b}&c={c}&d={d}&e={e}&f={f}&g={g}\"]\n",
              values = "[rows]\n";
  for (const char row : std::string("abcdefg")) values += std::string(1, row) + " = [0,1,2,3,4,5,6,7,8,9]\n";
  EXPECT_HAS(message_of(ErrorCode::bad_input, [&] { (void)plan_of(plan_with(many, values + kMeasure)); }),
             "these rows make 10000000 cells; 1000000 are the most");
}

class Runs : public Stores {
 protected:
  // THD of arctan(g·sin t): h3 and h5 by the closed form are in the stand-in's own test; here cells are told
  // apart.
  static Plan plan() {
    return plan_of(plan_with(
        "name = \"drives\"\nthrough = [\"sim:tern?drive={drive}\"]\n",
        "[rows]\ndrive = [0, 12, 24]\n" + kMeasure +
            "[[measure]]\nwith = \"latency\"\n"
            "[[limit]]\nkeep = \"thd_db<-60\"\n[[limit]]\nkeep = \"thd_db<-20\"\nwhere = \"drive=24\"\n"));
  }
};
INSTANTIATE_TEST_SUITE_P(Of, Runs, ::testing::Values("file", "server"),
                         [](const auto& of) { return of.param; });

TEST_P(Runs, AreMeasuredJudgedAndRemembered) {
  Logbook logbook = open();
  std::size_t calls = 0;
  const auto cells = cells_of(plan());
  const auto results =
      run_cells(plan(), cells,
                {.jobs = 2, .logbook = &logbook, .progress = [&](std::size_t, std::size_t, std::size_t all) {
                   EXPECT_EQ(all, 3u);
                   ++calls;
                 }});
  ASSERT_EQ(results.size(), 3u);
  EXPECT_GE(calls, 3u);
  double last = -200;
  for (const CellResult& result : results) {
    EXPECT_EQ(result.state, CellResult::State::measured) << result.reason;
    ASSERT_EQ(result.sheets.size(), 2u);
    const double thd = *find_reading(result.sheets[0], "thd_db", 0)->value;
    EXPECT_GT(thd, last);
    last = thd;
    EXPECT_NEAR(*find_reading(result.sheets[1], "latency_samples", std::nullopt)->value, 0, 1e-6);
    EXPECT_EQ(result.sheets[0].context->chain.size(), 1u);
  }
  const auto limits = check_limits(plan(), results);
  ASSERT_EQ(limits.size(), 4u);
  EXPECT_EQ(limits[0].result.outcome, LimitResult::Outcome::kept);
  const Page page = bench_page(plan(), results, limits);
  EXPECT_HAS(page_text(page),
             "drives: 3 cells; 2 of 4 limits are not kept: thd_db<-60 at drive=12, thd_db<-60 at drive=24");
  const std::string xml = bench_junit(plan(), results, limits);
  EXPECT_HAS(xml, "tests=\"7\" failures=\"2\" errors=\"0\"");
  EXPECT_HAS(xml, "thd_db&lt;-60");
  // Again: all of it is known, with the same figures.
  EXPECT_EQ(logbook.count({.tags = {{"plan", "drives"}}}), 6);
  const auto again = run_cells(plan(), cells, {.logbook = &logbook});
  for (std::size_t i = 0; i < again.size(); ++i) {
    EXPECT_EQ(again[i].state, CellResult::State::known);
    EXPECT_EQ(find_reading(again[i].sheets[0], "thd_db", 0)->value,
              find_reading(results[i].sheets[0], "thd_db", 0)->value);
  }
  EXPECT_EQ(bench_page(plan(), again, check_limits(plan(), again)).tables.back().rows.size(), 3u);
  const Sheet figures = logbook.figures(1);
  EXPECT_EQ(figures.measurement, "harmonics");
  EXPECT_TRUE(find_reading(figures, "thd_db", 0)->value);
  // What a cell depends on is what it is known by.
  Plan other = plan();
  other.measures[0].options = {{"orders", "5"}};
  const CellResult fresh = run_cells(other, {cells[0]}, {.logbook = &logbook})[0];
  EXPECT_EQ(fresh.state, CellResult::State::measured) << fresh.reason;
  EXPECT_EQ(run_cells(plan(), {cells[0]}, {.logbook = &logbook, .again = true})[0].state,
            CellResult::State::measured);
}

// The logbook holds no sound: who asks for captures gets them, and nothing is kept twice.
TEST_P(Runs, CapturesAreMadeOfKnownCellsAsWell) {
  Logbook logbook = open();
  const auto cells = cells_of(plan());
  (void)run_cells(plan(), cells, {.logbook = &logbook});
  const auto results = run_cells(plan(), cells, {.logbook = &logbook, .captures = folder_.file("captures")});
  for (const CellResult& result : results) EXPECT_EQ(result.state, CellResult::State::measured);
  EXPECT_TRUE(std::filesystem::exists(folder_.file("captures/drive-24.wav")));
  EXPECT_EQ(logbook.count({}), 6);
}

TEST_P(Runs, ACellThatFailsHasAReasonAndTheOthersGoOn) {
  Logbook logbook = open();
  const Plan plan = plan_of(plan_with("through = [\"sim:sandpiper?drop_at=0.6&drop={drop}\"]\n",
                                      "[rows]\ndrop = [0, 480]\n" + kMeasure));
  const auto results = run_cells(plan, cells_of(plan), {.logbook = &logbook});
  EXPECT_EQ(results[0].state, CellResult::State::measured) << results[0].reason;
  EXPECT_EQ(results[1].state, CellResult::State::failed);
  EXPECT_FALSE(results[1].reason.empty());
  EXPECT_HAS(page_text(bench_page(plan, results, {})), "2 cells; 1 failed");
  EXPECT_HAS(bench_junit(plan, results, {}), "errors=\"1\"");
  // It is not known: the next run tries it again.
  EXPECT_EQ(run_cells(plan, cells_of(plan), {.logbook = &logbook})[1].state, CellResult::State::failed);
}

// Another build of what is measured is held against the one before it, value by value; never against itself.
TEST_P(Runs, LimitsAreHeldAgainstTheSameCellOfSomethingElse) {
  Logbook logbook = open();
  const auto built = [](const char* output) {
    return plan_of(plan_with(
        std::string("name = \"p\"\nthrough = [\"sim:tern?drive={drive}&asymmetry=") + output + "\"]\n",
        "[rows]\ndrive = [12, 24]\n" + kMeasure + "[[limit]]\nkeep = \"thd_db<=last+0.01\"\n"));
  };
  const auto limits_of = [&](const Plan& plan) {
    return check_limits(plan, run_cells(plan, cells_of(plan), {.logbook = &logbook}), &logbook);
  };
  for (int time = 0; time < 2; ++time) {  // the second time all of it is known
    const auto first = limits_of(built("0"));
    ASSERT_EQ(first.size(), 2u);
    EXPECT_HAS(first[0].missing, "makes it the first");
    EXPECT_EQ(first[0].result.outcome, LimitResult::Outcome::undecided);
  }
  for (int time = 0; time < 2; ++time) {
    const auto worse = limits_of(built("0.1"));
    ASSERT_EQ(worse.size(), 2u);
    for (const CellLimit& limit : worse) {
      EXPECT_EQ(limit.missing, "");
      EXPECT_EQ(limit.result.outcome, LimitResult::Outcome::broken);
    }
    // Each against its own drive.
    EXPECT_GT(worse[1].result.bound, worse[0].result.bound + 5);
  }
  EXPECT_EQ(limits_of(built("0"))[0].result.outcome, LimitResult::Outcome::kept);
  EXPECT_THROW(
      (void)check_limits(built("0"), run_cells(built("0"), cells_of(built("0")), {.logbook = &logbook})),
      Error);
}

// Of a cell that was run several times the last one counts, and all of it.
TEST_P(Runs, AgainIsTheLastRunAlone) {
  Logbook logbook = open();
  const auto cells = cells_of(plan());
  const auto run = [&](bool again) {
    return run_cells(plan(), {cells[1]}, {.logbook = &logbook, .again = again})[0];
  };
  (void)run(false);
  setenv("SOURCE_DATE_EPOCH", "1900000000", 1);
  (void)run(true);
  setenv("SOURCE_DATE_EPOCH", "1900000100", 1);
  (void)run(true);
  unsetenv("SOURCE_DATE_EPOCH");
  EXPECT_EQ(logbook.count({}), 6);
  const CellResult known = run(false);
  EXPECT_EQ(known.state, CellResult::State::known);
  ASSERT_EQ(known.sheets.size(), 2u);
  EXPECT_EQ(known.sheets[0].context->made_s, 1900000100);
}

TEST_P(Runs, WhatCannotBeKeptIsFoundBeforeAnythingIsRun) {
  Logbook logbook = open();
  Plan named = plan();
  named.name = std::string(300, 'x');
  EXPECT_THROW((void)run_cells(named, cells_of(named), {.logbook = &logbook}), Error);
  EXPECT_THROW((void)run_cells(plan(), cells_of(plan()), {.logbook = &logbook, .tags = {{"drive", "3"}}}),
               Error);
  EXPECT_EQ(logbook.count({}), 0);
}

TEST_P(Runs, WarningsStandBesideTheFigures) {
  Logbook logbook = open();
  const Plan plan = plan_of(
      plan_with("through = [\"sim:sandpiper?invert={invert}\"]\n", "[rows]\ninvert = [0, 1]\n" + kMeasure));
  auto results = run_cells(plan, cells_of(plan), {.logbook = &logbook});
  results[1].sheets[0].findings.push_back(
      {Severity::warning, FindingCode::left_out, "half of it is missing", 0});
  const std::string text = page_text(bench_page(plan, results, {}));
  EXPECT_HAS(text, "invert=1 harmonics half of it is missing");
}

TEST(PlansRun, WhatIsMistypedIsFoundBeforeAnythingIsRun) {
  for (const auto& [unit, told] : {std::pair{"sim:tren", "did you mean"},
                                   {"sim:tern?drvie=3", "did you mean 'drive'"},
                                   {"sim:tern?drive=99", "drive"},
                                   {"jack:x", "jack: says nothing of what to record"},
                                   {"jack:x?from=a&form=b", "did you mean 'from'"}}) {
    const Plan plan = plan_of(plan_with(std::string("through = [\"") + unit + "\"]\n", kMeasure));
    EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)run_cells(plan, cells_of(plan), {}); }), told);
  }
}

TEST(PlansRun, NothingBetweenIsMeasuredAsWell) {
  const TemporaryFolder folder;
  const Plan plan = plan_of(plan_with("", "[rows]\nrate = [44100, 96000]\n" + kMeasure));
  const auto results = run_cells(plan, cells_of(plan), {.captures = folder.file("captures")});
  for (const CellResult& result : results) {
    ASSERT_EQ(result.state, CellResult::State::measured) << result.reason;
    EXPECT_EQ(result.sheets[0].capture.sample_rate_hz, result.run.cell.rate_hz);
    EXPECT_LT(*find_reading(result.sheets[0], "thd_db", 0)->value, -120);
  }
  EXPECT_TRUE(std::filesystem::exists(folder.file("captures/rate-96000.wav")));
}

// Killed at any moment, the next run goes on: nothing is lost or there twice.
TEST_P(Runs, ManyMayMakeTheStoreAtOnce) {
  std::vector<pid_t> children;
  for (int i = 0; i < 8; ++i) {
    children.push_back(fork());
    if (children.back() != 0) continue;
    try {
      Logbook logbook(url(), Logbook::Access::keep);
      keep(logbook, noise_sheet_of("x" + std::to_string(i), {-90}), "l" + std::to_string(i));
    } catch (const std::exception& error) {
      std::fprintf(stderr, "%s\n", error.what());
      _exit(1);
    }
    _exit(0);
  }
  for (const pid_t child : children) {
    int status = 0;
    waitpid(child, &status, 0);
    EXPECT_EQ(status, 0);
  }
  EXPECT_EQ(open().count({}), 8);
}

TEST_P(Runs, AKilledRunGoesOn) {
  { Logbook logbook = open(); }
  const auto cells = cells_of(plan());
  for (int time = 0; time < 6; ++time) {
    const pid_t child = fork();
    if (child == 0) {
      Logbook logbook(url(), Logbook::Access::keep);
      (void)run_cells(plan(), cells, {.logbook = &logbook});
      _exit(0);
    }
    usleep(static_cast<useconds_t>(20000 + 60000 * time));
    kill(child, SIGKILL);
    waitpid(child, nullptr, 0);
  }
  Logbook logbook = open();
  const auto results = run_cells(plan(), cells, {.logbook = &logbook});
  for (const CellResult& result : results)
    EXPECT_NE(result.state, CellResult::State::failed) << result.reason;
  EXPECT_EQ(logbook.count({.tags = {{"plan", "drives"}}}), 6);
  EXPECT_TRUE(logbook.faults().empty());
}

}  // namespace
}  // namespace wavicon::plan_test
