// SPDX-License-Identifier: MIT
#include "wavicon/measure/pair/pair.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon::pair_test {
namespace {

using namespace testing;

constexpr double kPhaseDeg = 0.5;

PairResult pair_of(const Signal& a, const Signal& b, double rate = 48000) {
  const Audio x = audio_of(a, rate), y = audio_of(b, rate);
  MemorySource from(x), against(y);
  return measure_pair(taken(from), taken(against));
}

const PairBand& band_at(const PairResult& result, double hz) {
  return *std::min_element(
      result.bands.begin(), result.bands.end(),
      [&](const PairBand& p, const PairBand& q) { return std::abs(p.hz - hz) < std::abs(q.hz - hz); });
}

TEST(Pair, LevelCorrelationAndMonoSumHaveTheirClosedForms) {
  const std::size_t length = 10 * 48000;
  const Signal x = noise(length, -20, 1), y = noise(length, -20, 2);
  for (const double share : {1.0, 0.8, 0.0, -0.6, -1.0}) {
    // y' = share·x + sqrt(1-share²)·y has a correlation of `share`, at half the level.
    const Signal mixed = scaled(added(scaled(x, share), scaled(y, std::sqrt(1 - share * share))), 0.5);
    const auto r = pair_of(x, mixed);
    EXPECT_NEAR(r.correlation, share, 0.005) << share;
    EXPECT_NEAR(db_from_ratio(r.b_rms / r.a_rms), db_from_ratio(0.5), 0.04)
        << "as far as two noises are alike";
    // |x/2 + y'/2|² = (1 + 1/4 + 2·share/2)/4 over the mean of 1 and 1/4.
    EXPECT_NEAR(r.mono_sum_ratio, std::sqrt((1.25 + share) / 4 / 0.625), 0.005) << share;
    if (std::abs(share) < 0.1) {
      EXPECT_FALSE(r.time_offset_samples);
    }
    if (std::abs(share) > 0.5) {
      ASSERT_TRUE(r.time_offset_samples);
      EXPECT_NEAR(*r.time_offset_samples, 0, 0.01);
      EXPECT_EQ(r.polarity, share < 0 ? -1 : 1);
      EXPECT_NEAR(band_at(r, 1000).coherence, share * share, 0.05);
      EXPECT_NEAR(band_at(r, 1000).correlation, share, 0.05);
    }
  }
}

TEST(Pair, PhaseIsThatOfAKnownDelayAndFilter) {
  const Signal x = noise(8 * 48000, -20, 3);
  for (const double late : {0.0, 3.25, 300.0, -12.5}) {
    const auto r = pair_of(x, moved(x, late));
    ASSERT_TRUE(r.time_offset_samples);
    EXPECT_NEAR(*r.time_offset_samples, late, 0.001);
    for (const double hz : {125.0, 1000.0, 5000.0}) {
      const PairBand& band = band_at(r, hz);
      EXPECT_GT(band.coherence, 0.99);
      EXPECT_NEAR(std::remainder(band.phase_deg + 360 * band.hz * late / 48000, 360), 0, kPhaseDeg)
          << late << " at " << hz;
    }
  }
  const Section filter = bell(1000, 12, 0.7, 48000);
  const auto r = pair_of(x, filtered(x, filter));
  for (const double hz : {250.0, 630.0, 1600.0, 5000.0}) {
    const PairBand& band = band_at(r, hz);
    EXPECT_NEAR(band.phase_deg, std::arg(filter.at(band.hz, 48000)) * 180 / M_PI, 2) << hz;
    EXPECT_NEAR(db_from_ratio(band.b / band.a), db_from_ratio(std::abs(filter.at(band.hz, 48000))), 0.3)
        << hz;
  }
}

TEST(Pair, MidAndSideAreWhatTheyAre) {
  const Signal m = noise(5 * 48000, -20, 4), s = noise(5 * 48000, -40, 5);
  const auto r = pair_of(added(m, s), added(m, scaled(s, -1)));
  const PairBand& band = band_at(r, 1000);
  EXPECT_NEAR(db_from_ratio(band.mid / band.side), 20, 0.7);
  const Sheet sheet = pair_sheet(r, {}, "left", "right");
  EXPECT_NEAR(*find_reading(sheet, "level_difference_db", std::nullopt)->value, 0, 0.1);
  EXPECT_NE(find_reading(sheet, "phase_deg", std::nullopt), nullptr);
}

TEST(Pair, AnInvertedChannelLosesTheMonoSum) {
  const Signal& x = programme("voice", 48000, 4);
  const auto r = pair_of(x, scaled(x, -0.999));
  EXPECT_EQ(r.polarity, -1);
  const Sheet sheet = pair_sheet(r, {}, "a", "b");
  EXPECT_LT(*find_reading(sheet, "mono_sum_loss_db", std::nullopt)->value, -60);
  EXPECT_EQ(sheet.findings[1].severity, Severity::warning);
  EXPECT_NE(sheet.findings[1].text.find("inverted"), std::string::npos);
}

TEST(Pair, BadInputIsAnswered) {
  const Signal& x = programme("voice", 48000, 4);
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { (void)pair_of(x, Signal(x.size(), 0.0)); }).find("B is silent"),
      std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)pair_of({}, x); }).find("0 frames"),
            std::string::npos);
  Signal broken = x;
  broken[500] = INFINITY;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)pair_of(x, broken); }).find("NaN or infinity"),
            std::string::npos);
  const Audio a = audio_of(x, 48000);
  MemorySource source(a);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] { (void)measure_pair(taken(source), taken(source), {.b_channel = 1}); })
                .find("not there"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::pair_test
