// SPDX-License-Identifier: MIT
// Cells against each other: comparisons, limits, the first value that is enough, pictures.

#include <algorithm>

#include "bench/plans.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/present/page_text.hpp"

namespace wavicon::compared_test {
namespace {

using namespace testing;

// Dunlin is a gain: what is left of it is known.
Plan gains(const std::string& tail, const std::string& values = "[0, -6, -12, -18]") {
  return plan_of(plan_with("name = \"gains\"\nthrough = [\"sim:dunlin?gain={gain}\"]\n",
                           "[rows]\ngain = " + values + "\n" + tail));
}

TEST(Compared, CellsStandAgainstTheFirstEachOtherOrOneThatIsNamed) {
  const struct {
    std::string against;
    std::vector<std::pair<std::string, double>> gain_db;
  } cases[] = {
      {"first",
       {{"gain=-6 against gain=0", -6}, {"gain=-12 against gain=0", -12}, {"gain=-18 against gain=0", -18}}},
      {"gain=-12",
       {{"gain=0 against gain=-12", 12}, {"gain=-6 against gain=-12", 6}, {"gain=-18 against gain=-12", -6}}},
      {"all",
       {{"gain=-6 against gain=0", -6},
        {"gain=-12 against gain=0", -12},
        {"gain=-12 against gain=-6", -6},
        {"gain=-18 against gain=0", -18},
        {"gain=-18 against gain=-6", -12},
        {"gain=-18 against gain=-12", -6}}},
  };
  for (const auto& [against, wanted] : cases) {
    const Plan plan = gains("[[measure]]\nwith = \"null\"\nagainst = \"" + against + "\"\n");
    const auto results = results_of(plan);
    ASSERT_EQ(results.size(), wanted.size()) << against;
    for (std::size_t i = 0; i < results.size(); ++i) {
      ASSERT_EQ(results[i].state, CellResult::State::measured) << results[i].reason;
      EXPECT_EQ(name_of(results[i]), wanted[i].first);
      EXPECT_NEAR(value_of(results[i], "gain_db"), wanted[i].second, 0.001) << wanted[i].first;
    }
    EXPECT_HAS(page_text(bench_page(plan, results, {})), "comparisons");
  }
  // Cells and comparisons together, each kind in a matrix of its own.
  const Plan both = gains(kMeasure + "[[measure]]\nwith = \"null\"\nagainst = \"first\"\n" +
                          "[[measure]]\nwith = \"null\"\n");
  const auto results = results_of(both);
  EXPECT_EQ(results.size(), 7u);
  const Page page = bench_page(both, results, {});
  std::vector<std::string> keys;
  for (const PageTable& table : page.tables)
    if (!table.rows.empty()) keys.push_back(table.key);
  EXPECT_EQ(keys, (std::vector<std::string>{"harmonics", "null_against", "null"}));
  EXPECT_NEAR(value_of(results[1], "gain_db"), -6, 0.001);
}

TEST(Compared, AReadingThatBelongsToAPairNeedsTwoCells) {
  EXPECT_HAS(message_of(ErrorCode::bad_input, [] { (void)gains("[[measure]]\nwith = \"pair\"\n"); }),
             "says with which cell: against = \"first\", \"all\" or \"ROW=VALUE\"");
  const auto results = results_of(gains("[[measure]]\nwith = \"pair\"\nagainst = \"first\"\n", "[0, -6]"));
  ASSERT_EQ(results.size(), 1u);
  EXPECT_NEAR(std::abs(value_of(results[0], "level_difference_db")), 6, 0.001) << results[0].reason;
  for (const auto& [tail, told] :
       {std::pair{"[[measure]]\nwith = \"harmonics\"\nagainst = \"first\"\n", "harmonics compares nothing"},
        {"[[measure]]\nwith = \"null\"\nagainst = \"gian=0\"\n", "did you mean 'gain'"},
        {"[[measure]]\nwith = \"null\"\nagainst = \"gain=1\"\n", "row 'gain' does not take '1'"}})
    EXPECT_HAS(message_of(ErrorCode::bad_input, [&, &of = tail] { (void)gains(of); }), told);
}

TEST(Compared, LimitsLookAtAnotherCell) {
  const auto outcomes = [](const std::string& keep) {
    const Plan plan = gains("[[measure]]\nwith = \"levels\"\n[[limit]]\nkeep = \"" + keep +
                            "\"\nother = \"gain=0\"\nwhere = \"gain=-6\"\n");
    const auto results = results_of(plan);
    const auto limits = check_limits(plan, results);
    EXPECT_EQ(limits.size(), 1u);
    EXPECT_EQ(limits[0].cell, 1u);
    EXPECT_HAS(limits[0].result.past, "at gain=0");
    return limits[0].result.outcome;
  };
  // Six decibels less, to a hundredth.
  EXPECT_EQ(outcomes("rms_dbfs<=other-5.99"), LimitResult::Outcome::kept);
  EXPECT_EQ(outcomes("rms_dbfs<=other - 6.01"), LimitResult::Outcome::broken);
  EXPECT_EQ(outcomes("rms_dbfs<other"), LimitResult::Outcome::kept);
  EXPECT_EQ(outcomes("rms_dbfs<=other+u"), LimitResult::Outcome::kept);
  EXPECT_EQ(outcomes("rms_dbfs>=other-u"), LimitResult::Outcome::broken);  // six decibels are no uncertainty
  EXPECT_HAS(message_of(ErrorCode::bad_input,
                        [] {
                          (void)gains(
                              "[[measure]]\nwith = \"levels\"\n[[limit]]\nkeep = "
                              "\"rms_dbfs<other\"\n");
                        }),
             "'other' stands for which cell?");
  // A cell that is not among those that were run decides nothing, and is told.
  const Plan plan =
      gains("[[measure]]\nwith = \"levels\"\n[[limit]]\nkeep = \"rms_dbfs<other\"\nother = \"gain=0\"\n");
  const auto results = run_cells(plan, cells_of(plan, "gain=-6"), {});
  const auto limits = check_limits(plan, results);
  ASSERT_EQ(limits.size(), 1u);
  EXPECT_EQ(limits[0].result.outcome, LimitResult::Outcome::undecided);
  EXPECT_HAS(limits[0].missing, "gain=0 is not among the cells of this run");
}

// By no more than its uncertainty: of noise that is drawn anew, not of noise that is louder.
TEST(Compared, LimitsAllowForUncertainty) {
  const Plan plan = plan_of(
      "through = [\"sim:heron?noise={noise}&seed={seed}\"]\n[play]\n[[play.part]]\nkind = \"silence\"\nseconds = 4\n"
      "[rows]\nnoise = [-100, -99]\nseed = [1, 2]\n[[measure]]\nwith = \"noise\"\n[[limit]]\nkeep = "
      "\"noise_dbfs<=other+u\"\nother = \"noise=-100 seed=1\"\n");
  const auto results = results_of(plan);
  const auto limits = check_limits(plan, results);
  ASSERT_EQ(limits.size(), 4u);
  for (std::size_t i = 0; i < 4; ++i)
    EXPECT_EQ(limits[i].result.outcome,
              i < 2 ? LimitResult::Outcome::kept : LimitResult::Outcome::broken)
        << i << " " << limits[i].result.past << " " << results[i].reason;
}

// -12 dBFS of peak are -15.01 dBFS of RMS.
TEST(Compared, EnoughIsTheValueFromWhichOnAllLimitsAreKept) {
  const auto enough = [](const std::string& values, const std::string& keep) {
    const Plan plan = gains("[[measure]]\nwith = \"levels\"\n[[limit]]\nkeep = \"" + keep + "\"\n", values);
    const auto results = results_of(plan);
    return enough_values(plan, results, check_limits(plan, results), "gain").at(0).value.value_or("none");
  };
  EXPECT_EQ(enough("[0, -6, -12, -18]", "rms_dbfs<-25"), "-12");
  EXPECT_EQ(enough("[0, -6, -12, -18]", "rms_dbfs<-10"), "0");
  EXPECT_EQ(enough("[0, -6, -12, -18]", "rms_dbfs<-40"), "none");
  // One that keeps it before another one that does not is not enough.
  EXPECT_EQ(enough("[-12, 0, -18]", "rms_dbfs<-25"), "-18");
  // For each combination of the others.
  Plan plan = plan_of(plan_with("through = [\"sim:dunlin?gain={gain}\", \"sim:dunlin?gain={more}\"]\n",
                                "[rows]\nmore = [0, -20]\ngain = [0, -6, -12]\n[[measure]]\nwith = "
                                "\"levels\"\n[[limit]]\nkeep = \"rms_dbfs<-20\"\n"));
  plan.enough = "gain";
  const auto results = results_of(plan);
  const auto limits = check_limits(plan, results);
  const auto all = enough_values(plan, results, limits, "gain");
  ASSERT_EQ(all.size(), 2u);
  EXPECT_EQ(all[0].others, "more=0");
  EXPECT_EQ(all[0].value, "-6");
  EXPECT_EQ(all[1].value, "0");
  EXPECT_HAS(
      page_text(bench_page(plan, results, limits)),
      "p: at more=0 gain -6 is the first that keeps rms_dbfs<-20; at more=-20 gain 0 is the first that "
      "keeps it");
  EXPECT_THROW((void)enough_values(plan, results, limits, "loss"), Error);
  plan.limits.clear();
  EXPECT_THROW((void)enough_values(plan, results, {}, "gain"), Error);
}

TEST(Compared, PicturesGoOverTheRowOfNumbersOrStandInRows) {
  const Plan plan =
      plan_of(plan_with("through = [\"sim:dunlin?gain={gain}\", \"{also}\"]\n",
                        "[rows]\nalso = { plain = \"nothing\", driven = \"sim:tern?drive=12\" }\n"
                        "gain = [-12, 0, -6]\n[[measure]]\nwith = \"levels\"\nshow = [\"rms_dbfs\"]\n"));
  const auto results = results_of(plan);
  const auto pictures = bench_pictures(plan, results);
  ASSERT_EQ(pictures.size(), 1u);
  ASSERT_EQ(pictures[0].drawn.size(), 2u);
  EXPECT_EQ(pictures[0].drawn[0].capture.file, "also plain");
  const Curve& line = pictures[0].drawn[0].curves[0];
  EXPECT_EQ(line.x, (std::vector<double>{-12, -6, 0}));
  for (std::size_t i = 0; i < 3; ++i) EXPECT_NEAR(line.y[i], -15.01 + line.x[i], 0.01);
  EXPECT_EQ(pictures[0].picture.style.x_title, "gain");
  // Names alone stand in rows; a single cell is no picture.
  const Plan names = plan_of(
      plan_with("through = [\"{unit}\"]\n",
                "[rows]\nunit = { plain = \"nothing\", driven = \"sim:tern?drive=12\" }\n" + kMeasure));
  const auto rows = bench_pictures(names, results_of(names));
  ASSERT_EQ(rows.size(), 1u);
  EXPECT_EQ(rows[0].picture.kind, PictureKind::rows);
  EXPECT_EQ(rows[0].drawn[0].labels.at(1).text, "unit=driven");
  const Plan one = plan_of(plan_with("", kMeasure));
  EXPECT_TRUE(bench_pictures(one, results_of(one)).empty());
}

}  // namespace
}  // namespace wavicon::compared_test
