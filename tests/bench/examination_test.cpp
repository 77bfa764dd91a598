// SPDX-License-Identifier: MIT
// Faults of known size, one at a time.

#include "wavicon/bench/examination.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "bench/plans.hpp"

namespace wavicon::examination_test {
namespace {

using namespace testing;

#if defined(__SANITIZE_THREAD__) || defined(__SANITIZE_ADDRESS__)
constexpr bool kWatches = false;
#else
constexpr bool kWatches = true;
#endif

class Examined : public ::testing::Test {
 protected:
  static const Sheet& sheet(int fault) {
    static std::map<int, Sheet> made;
    const auto found = made.find(fault);
    if (found != made.end()) return found->second;
    const Plan plan = plan_of(plan_with(std::string("through = [\"lv2:") + WAVICON_UNSOUND_BUNDLE +
                                            ":unsound?fault=" + std::to_string(fault) + "\"]\n",
                                        "[[measure]]\nwith = \"examination\"\n"));
    const auto results = run_cells(plan, cells_of(plan), {});
    EXPECT_EQ(results[0].state, CellResult::State::measured) << results[0].reason;
    return made[fault] = results[0].sheets.at(0);
  }
  static double value(int fault, const std::string& name) {
    const Reading* reading = find_reading(sheet(fault), name, std::nullopt);
    return reading == nullptr || !reading->value ? std::nan("") : *reading->value;
  }
  static std::string told(int fault) {
    for (const Finding& finding : sheet(fault).findings)
      if (finding.code == FindingCode::result) return finding.text;
    return "";
  }
};

constexpr double kSamples = 48000;

TEST_F(Examined, ASoundPluginHasNothingThatStandsOut) {
  EXPECT_EQ(told(0), "nothing stands out");
  for (const char* name : {"runs_differ_samples", "blocks_differ_samples", "state_differs_samples",
                           "bypass_differs_samples", "sides_differ_samples", "mono_differs_samples",
                           "reported_samples", "tail_s", "nan_recovery_s", "infinity_recovery_s"})
    EXPECT_EQ(value(0, name), 0) << name;
  const Reading& silent = *find_reading(sheet(0), "silence_out_dbfs", std::nullopt);
  EXPECT_TRUE(silent.bound);
  EXPECT_NEAR(*silent.value, -896.9, 0.2);  // the smallest number of single precision: 2^-149
  for (const int block : {64, 512, 4096}) {
    EXPECT_GT(value(0, "load_" + std::to_string(block) + "_percent"), 0);
    EXPECT_LT(value(0, "load_" + std::to_string(block) + "_percent"), 50);
  }
  EXPECT_EQ(sheet(0).context->chain.size(), 1u);
  EXPECT_EQ(find_reading(sheet(0), "runs_difference_dbfs", std::nullopt), nullptr);
}

TEST_F(Examined, WhatItAsksForInRunIsCounted) {
  if (!kWatches) GTEST_SKIP() << "calls are not watched under a sanitizer";
  // Once a block of 512: 94 blocks hold a second; each is asked for and given back.
  EXPECT_EQ(value(0, "allocations"), 0);
  EXPECT_EQ(value(0, "locks"), 0);
  EXPECT_EQ(value(1, "allocations"), 2 * 94);
  EXPECT_EQ(value(1, "locks"), 0);
  EXPECT_EQ(value(2, "locks"), 94);
  EXPECT_HAS(told(1), "allocates in run");
  EXPECT_HAS(told(2), "takes locks in run");
}

TEST_F(Examined, DifferencesAreCountedAndSized) {
  // Half as loud in blocks of one frame: all samples but those that are zero; half of the peak.
  EXPECT_NEAR(value(3, "blocks_differ_samples"), kSamples, 20);
  EXPECT_EQ(value(3, "runs_differ_samples"), 0);
  EXPECT_HAS(told(3), "blocks of 1 differ");
  EXPECT_NEAR(value(3, "blocks_difference_dbfs"), -18.1, 0.3);  // half of less than a quarter
  // Each instance a thousandth louder: nothing else can be compared.
  EXPECT_GT(value(4, "runs_differ_samples"), 0.9 * kSamples);
  EXPECT_TRUE(std::isnan(value(4, "blocks_differ_samples")));
  EXPECT_TRUE(std::any_of(sheet(4).findings.begin(), sheet(4).findings.end(),
                          [](const Finding& f) { return f.code == FindingCode::left_out; }));
  // A saved state that is half as loud.
  EXPECT_NEAR(value(5, "state_differs_samples"), kSamples, 20);
  EXPECT_NEAR(value(5, "state_difference_dbfs"), -18.1, 0.3);
  EXPECT_EQ(value(5, "blocks_differ_samples"), 0);
  // A tenth is missing while it is bypassed.
  EXPECT_NEAR(value(9, "bypass_differs_samples"), kSamples, 20);
  EXPECT_NEAR(value(9, "bypass_difference_dbfs"), -32.1, 0.3);
}

TEST_F(Examined, SilenceTailsAndBrokenSamplesAreTimed) {
  EXPECT_NEAR(value(7, "silence_out_dbfs"), -60, 0.001);
  EXPECT_HAS(told(7), "silence in gives -60.0 dBFS");
  EXPECT_TRUE(std::isnan(value(7, "tail_s")));  // it never ends
  EXPECT_NEAR(value(8, "tail_s"), 0.25, 2e-4);
  EXPECT_NEAR(value(8, "nan_recovery_s"), 0.25, 1e-9);  // the echo of the broken sample is the last
  EXPECT_TRUE(std::isnan(value(6, "nan_recovery_s")));
  EXPECT_HAS(told(6), "a NaN breaks it for good");
}

TEST_F(Examined, LimitsAreCheckedOnIt) {
  const Plan plan = plan_of(
      plan_with(std::string("through = [\"lv2:") + WAVICON_UNSOUND_BUNDLE + ":unsound?fault={fault}\"]\n",
                "[rows]\nfault = [0, 1]\n[[measure]]\nwith = \"examination\"\n" + kMeasure +
                    "[[limit]]\nkeep = \"allocations<=0\"\n"));
  const auto results = run_cells(plan, cells_of(plan), {.jobs = 2});
  for (const CellResult& result : results) EXPECT_EQ(result.sheets.size(), 2u);
  if (!kWatches) return;
  const auto limits = check_limits(plan, results);
  ASSERT_EQ(limits.size(), 2u);
  EXPECT_EQ(limits[0].result.outcome, LimitResult::Outcome::kept);
  EXPECT_EQ(limits[1].result.outcome, LimitResult::Outcome::broken);
}

// A plugin that is built anew while the plan runs: nobody knows which of the two was measured.
TEST(Examinations, AUnitThatChangesMeanwhileIsTold) {
  const TemporaryFolder folder;
  const std::filesystem::path bundle = folder.path() / "own.lv2";
  std::filesystem::copy(WAVICON_UNSOUND_BUNDLE, bundle, std::filesystem::copy_options::recursive);
  const Plan plan = plan_of(plan_with("through = [\"lv2:" + bundle.string() + ":unsound?fault={fault}\"]\n",
                                      "[rows]\nfault = [0, 7]\n" + kMeasure));
  bool done_before = false;
  const auto results =
      run_cells(plan, cells_of(plan), {.progress = [&](std::size_t done, std::size_t, std::size_t) {
                  if (done == 1 && !done_before) {
                    done_before = true;
                    const std::string text = read_text(bundle / "unsound.so");
                    std::filesystem::remove(bundle / "unsound.so");
                    std::ofstream(bundle / "unsound.so", std::ios::binary) << text << "built anew";
                  }
                }});
  for (const CellResult& result : results) EXPECT_HAS(result.doubt, "was changed while the plan ran");
  const Page page = bench_page(plan, results, {});
  EXPECT_FALSE(page.remarks.empty());
}

TEST(Examinations, NeedSomethingBetween) {
  EXPECT_HAS(message_of(ErrorCode::bad_input,
                        [] { (void)plan_of(plan_with("", "[[measure]]\nwith = \"examination\"\n")); }),
             "this plan has nothing in 'through'");
  // A stand-in is part of the program: its calls are not seen, and not told.
  const Plan plan =
      plan_of(plan_with("through = [\"sim:tern?drive=6\"]\n", "[[measure]]\nwith = \"examination\"\n"));
  const auto results = run_cells(plan, cells_of(plan), {});
  ASSERT_EQ(results[0].state, CellResult::State::measured) << results[0].reason;
  EXPECT_EQ(find_reading(results[0].sheets[0], "allocations", std::nullopt), nullptr);
}

}  // namespace
}  // namespace wavicon::examination_test
