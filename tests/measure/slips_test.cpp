// SPDX-License-Identifier: MIT
// Captures of programme in which frames were lost or inserted: what measurements against a reference read on
// one side of the place, and what they say.
#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/measure/latency/latency.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/measure/pair/pair.hpp"
#include "wavicon/measure/response/response.hpp"

namespace wavicon::slips_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;
constexpr std::size_t kPlace = 144000;  // 3 s of 10
constexpr std::size_t kLost = 300;

const Signal& source() { return programme("voice", kRate, 10, 4); }

// Late by 100 frames, then without what was lost.
Signal capture(double gain = 1) {
  Signal y = source();
  y.erase(y.begin() + kPlace, y.begin() + kPlace + kLost);
  y.insert(y.begin(), 100, 0.0);
  return scaled(std::move(y), gain);
}

template <typename Measure>
auto of(const Signal& a, const Signal& b, Measure&& measure) {
  const Audio x = audio_of(a, kRate), y = audio_of(b, kRate);
  MemorySource from(x), against(y);
  return measure(taken(from), taken(against));
}

int lost_findings(const Sheet& sheet) {
  int count = 0;
  for (const Finding& finding : sheet.findings)
    count += finding.code == FindingCode::lost_frames && finding.severity == Severity::warning;
  return count;
}

TEST(Slips, ANullComparesTheLongestStretchAndIsNotIdentical) {
  const NullResult result =
      of(source(), capture(), [](const auto& a, const auto& b) { return measure_null(a, b); });
  ASSERT_EQ(result.alignment.slips.size(), 1U);
  EXPECT_EQ(result.alignment.delay_frames, 100 - static_cast<double>(kLost));
  EXPECT_GE(result.first_frame, static_cast<std::int64_t>(kPlace + kLost) - 96);
  EXPECT_TRUE(result.equal) << "what lies behind is the same, bit for bit";
  EXPECT_EQ(result.verdict, NullVerdict::programme);
  const Sheet sheet = null_sheet(result, {.file = "a"}, {.file = "b"});
  EXPECT_EQ(lost_findings(sheet), 1);
  const std::string& first = sheet.findings.front().text;
  EXPECT_NE(first.find("programme: 300 frames were lost "), std::string::npos) << first;
  EXPECT_NE(first.find("the longest stretch without that"), std::string::npos) << first;
  // A stretch on the other side is not lined up by what was found.
  try {
    (void)of(source(), capture(),
             [](const auto& a, const auto& b) { return measure_null(a, b, {.to_s = 2}); });
    ADD_FAILURE() << "measured";
  } catch (const Error& error) {
    EXPECT_NE(std::string(error.what()).find("--delay"), std::string::npos) << error.what();
  }
  const NullResult given = of(source(), capture(), [](const auto& a, const auto& b) {
    return measure_null(a, b, {.delay_samples = 100, .to_s = 2});
  });
  EXPECT_TRUE(given.equal);
  EXPECT_EQ(given.verdict, NullVerdict::identical) << "one side was asked for";
}

TEST(Slips, ALatencyHoldsForOnePieceAndTheOthersAreSaid) {
  const LatencyResult result =
      of(source(), capture(), [](const auto& a, const auto& b) { return measure_latency(a, b); });
  EXPECT_NEAR(result.latency_samples, -200, 1e-3);
  ASSERT_EQ(result.piece_samples.size(), 2U);
  EXPECT_NEAR(result.piece_samples[0], 100, 1e-3);
  EXPECT_NEAR(result.piece_samples[1], -200, 1e-3);
  EXPECT_NEAR(result.piece_from_s, 3.006, 0.1);
  const Sheet sheet = latency_sheet(result, {.file = "a"}, {.file = "b"});
  EXPECT_EQ(lost_findings(sheet), 1);
  EXPECT_NE(sheet.findings.front().text.find("and not throughout"), std::string::npos)
      << sheet.findings.front().text;
}

TEST(Slips, AResponseAndItsLevelAreThoseOfThePiece) {
  const ResponseResult result =
      of(source(), capture(0.5), [](const auto& a, const auto& b) { return measure_response(a, b); });
  ASSERT_TRUE(result.channels[0].measured);
  int compared = 0;
  for (const ResponsePoint& p : result.channels[0].points) {
    if (p.hz < 200 || p.hz > 4000) continue;
    EXPECT_NEAR(db_from_ratio(std::abs(p.ratio)), db_from_ratio(0.5), 0.01) << p.hz;
    ++compared;
  }
  EXPECT_GT(compared, 50);
  EXPECT_EQ(lost_findings(response_sheet(result, {.file = "a"}, {.file = "b"})), 1);
}

TEST(Slips, APairSharesWhatThePieceShares) {
  const PairResult result =
      of(source(), capture(0.5), [](const auto& a, const auto& b) { return measure_pair(a, b); });
  ASSERT_TRUE(result.time_offset_samples);
  EXPECT_NEAR(*result.time_offset_samples, -200, 1e-3);
  int compared = 0;
  for (const PairBand& band : result.bands) {
    if (band.hz < 200 || band.hz > 4000) continue;
    EXPECT_GT(band.coherence, 0.999) << band.hz;
    ++compared;
  }
  EXPECT_GT(compared, 10);
  EXPECT_EQ(lost_findings(pair_sheet(result, {}, "a", "b")), 1);
}

TEST(Slips, ManyAreNamedInPart) {
  const std::vector<Slip> slips = {{48000, 48300, -300},
                                   {96000, 96000, 1},
                                   {100000, 148000, 12},
                                   {480000, 480000, 5},
                                   {490000, 490000, 5}};
  EXPECT_EQ(
      slips_text(slips, kRate),
      "300 frames were lost at 1.000 s, 1 frame was inserted at 2.000 s, 12 frames were inserted between "
      "2.083 and 3.083 s, and so on at 2 more places");
  Alignment alignment{.delay_frames = 10, .slips = slips, .piece_first_frame = 148000};
  EXPECT_EQ(delays_of_pieces(alignment), (std::vector<double>{297, -3, -2, 10, 15, 20}));
  EXPECT_EQ(delays_of_pieces({.delay_frames = 7}), std::vector<double>{7});
}

}  // namespace
}  // namespace wavicon::slips_test
