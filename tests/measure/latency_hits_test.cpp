// SPDX-License-Identifier: MIT
// Rows of hits: each delay, and what they do over time.
#include "intake/hit_signals.hpp"
#include "measure/judged.hpp"
#include "wavicon/measure/latency/latency.hpp"

namespace wavicon::latency_hits_test {
namespace {

using namespace testing;

HitLatencies judged(const std::function<double(int)>& late, int count = 16, double uncertainty = 0.002) {
  std::vector<HitDelay> hits;
  for (int i = 0; i < count; ++i) hits.push_back({24000 * i, late(i), uncertainty, 1});
  return judge_hits(std::move(hits), count);
}

TEST(LatencyOfHits, ItIsSaidWhatTheyDo) {
  EXPECT_EQ(judged([](int i) { return 517.4 + 0.005 * gaussian(1, static_cast<std::uint64_t>(i)); }).course,
            HitCourse::steady);
  EXPECT_EQ(judged([](int i) { return 517.4 + 5 * gaussian(2, static_cast<std::uint64_t>(i)); }).course,
            HitCourse::jitters);
  EXPECT_EQ(
      judged([](int i) { return 517.4 + 1.2 * i + 0.1 * gaussian(3, static_cast<std::uint64_t>(i)); }).course,
      HitCourse::drifts);
  const auto jumps = judged([](int i) {
    return 517.4 + (i >= 5 ? 64 : 0) - (i >= 11 ? 200 : 0) + 0.1 * gaussian(4, static_cast<std::uint64_t>(i));
  });
  EXPECT_EQ(jumps.course, HitCourse::jumps);
  ASSERT_EQ(jumps.jumps, (std::vector<std::size_t>{5, 11}));
  EXPECT_NEAR(jumps.jump_samples[0], 64, 0.3);
  EXPECT_NEAR(jumps.jump_samples[1], -200, 0.3);
  // One that is off makes no course, and is named.
  const auto one = judged([](int i) { return i == 7 ? 530.0 : 517.0; });
  EXPECT_EQ(one.course, HitCourse::jitters);
  EXPECT_EQ(one.worst, 7U);
  EXPECT_TRUE(judge_hits({}, 0).hits.empty());
  EXPECT_EQ(judged([](int) { return 3.0; }, 1).course, HitCourse::steady);
}

// What is claimed of hits that only jitter, over many rows: nothing.
TEST(LatencyOfHits, JitterIsNeitherDriftNorJump) {
  int claimed = 0;
  for (std::uint64_t row = 0; row < 500; ++row)
    for (const int count : {4, 8, 20, 60})
      claimed +=
          judged([&](int i) { return 10 * gaussian(row * 64 + 7, static_cast<std::uint64_t>(i)); }, count)
              .course != HitCourse::jitters;
  EXPECT_LE(claimed, 4) << "of 2000";
}

LatencyResult latency_of(const std::vector<double>& x, const std::vector<double>& y,
                         const LatencyOptions& options = {}) {
  const Audio a = audio_of(x, 48000), b = audio_of(y, 48000);
  MemorySource from(a), against(b);
  return measure_latency(taken(from), taken(against), options);
}

TEST(LatencyOfHits, MeanSpreadAndWorst) {
  const RowOfHits row = row_of(20, 6);
  RowOfHits played = row;
  double mean = 0;
  for (std::size_t i = 0; i < 20; ++i) {
    played.late[i] = 261.4 + 4 * gaussian(5, i);
    mean += played.late[i] / 20;
  }
  auto y = samples_of(played, 48000);
  for (double& v : y) v *= -0.5;
  const auto result = latency_of(samples_of(row, 48000), y);
  ASSERT_TRUE(result.row);
  EXPECT_EQ(result.row->course, HitCourse::jitters);
  EXPECT_EQ(result.row->hits.size(), 20U);
  EXPECT_NEAR(result.latency_samples, mean, 0.01);
  EXPECT_EQ(result.polarity, -1);
  EXPECT_EQ(result.drift_ppm, 0);
  EXPECT_NEAR(result.spread_samples, 4, 1.5);
  ASSERT_TRUE(result.uncertainty_samples);
  EXPECT_NEAR(*result.uncertainty_samples, 2 * result.spread_samples / std::sqrt(20), 1e-3);
  const Sheet sheet = latency_sheet(result, {.file = "a"}, {.file = "b"});
  const Reading* worst = find_reading(sheet, "worst_hit_samples", std::nullopt);
  ASSERT_NE(worst, nullptr);
  double most = 0;
  for (const double late : played.late) most = std::max(most, std::abs(late - mean));
  EXPECT_NEAR(std::abs(*worst->value), most, 0.02);
  EXPECT_NE(sheet.findings.front().text.find("not steadily: 20 hits jitter"), std::string::npos)
      << sheet.findings.front().text;
}

TEST(LatencyOfHits, DriftAndJumpsAreTold) {
  const RowOfHits row = row_of(24, 8);
  RowOfHits drifting = row, jumping = row;
  for (std::size_t i = 0; i < 24; ++i) {
    drifting.late[i] = 300 + row.times_s[i] * 48000 * 80e-6;
    jumping.late[i] = i < 9 ? 300 : 44;
  }
  const auto x = samples_of(row, 48000);
  const auto drifts = latency_of(x, samples_of(drifting, 48000));
  ASSERT_TRUE(drifts.row);
  EXPECT_EQ(drifts.row->course, HitCourse::drifts);
  EXPECT_NEAR(drifts.drift_ppm, 80, 0.5);
  EXPECT_NEAR(drifts.latency_samples, 300, 0.1);
  EXPECT_NEAR(drifts.latency_samples, 300, 3 * *drifts.uncertainty_samples);
  const auto jumps = latency_of(x, samples_of(jumping, 48000));
  ASSERT_TRUE(jumps.row);
  EXPECT_EQ(jumps.row->course, HitCourse::jumps);
  ASSERT_EQ(jumps.row->jumps.size(), 1U);
  EXPECT_NEAR(jumps.latency_samples, 300, 1e-3);
  EXPECT_NEAR(jumps.row->jump_samples[0], -256, 1e-3);
  const Sheet sheet = latency_sheet(jumps, {.file = "a"}, {.file = "b"});
  EXPECT_NE(sheet.findings.front().text.find("jumps by -256.00 samples at"), std::string::npos)
      << sheet.findings.front().text;
}

// The line at A's first frame is less sure than in the middle of the hits: as sure as it says.
TEST(LatencyOfHits, ADriftCarriesTheUncertaintyOfItsBeginning) {
  int within = 0;
  for (std::uint64_t row = 0; row < 200; ++row) {
    const auto found = judged([&](int i) {
      return 300 + 2.0 * (i + 8) + 0.5 * gaussian(900 + row, static_cast<std::uint64_t>(i));
    });
    ASSERT_EQ(found.course, HitCourse::drifts);
    within += std::abs(found.at_start_frames - 316) < found.at_start_uncertainty_frames;
  }
  EXPECT_GE(within, 180);
  EXPECT_LE(within, 199);
}

TEST(LatencyOfHits, EachHitOfALoopWhenItIsAskedFor) {
  const RowOfHits row = row_of(12, 3);
  auto x = samples_of(row, 48000);
  std::vector<double> y(x.size());
  RowOfHits played = row;
  for (auto& late : played.late) late = 97;
  y = samples_of(played, 48000);
  // A soft floor of hiss, the same in both.
  for (std::size_t n = 0; n < x.size(); ++n) {
    x[n] += 0.005 * gaussian(1, n + 97);
    y[n] += 0.005 * gaussian(1, n);
  }
  const auto asked = latency_of(x, y, {.each_hit = true});
  ASSERT_TRUE(asked.row);
  EXPECT_EQ(asked.row->hits.size(), 12U);
  EXPECT_NEAR(asked.latency_samples, 97, 0.01);
  std::vector<double> hiss(96000);
  for (std::size_t n = 0; n < hiss.size(); ++n) hiss[n] = 0.1 * gaussian(9, n);
  EXPECT_THROW((void)latency_of(hiss, hiss, {.each_hit = true}), Error);
}

}  // namespace
}  // namespace wavicon::latency_hits_test
