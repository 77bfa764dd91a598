// SPDX-License-Identifier: MIT
#include "wavicon/measure/takes/takes.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon::takes_test {
namespace {

using namespace testing;

constexpr double kEdgeS = 0.045;  // what is kept around a take, and a look
constexpr double kGainDb = 0.05;
constexpr double kGapDb = 0.2;

// One-pole low-pass, twice: 12 dB per octave.
Signal duller(const Signal& x, double hz, double rate) { return band_limited(x, 0.01, hz, rate); }

struct Placed {
  double start_s, end_s;
};

// Sentences of pink noise bursts (0.4 s with pauses of 0.15 s), parted by 1.5 s, each at its own level, over
// one noise floor.
Signal recording(const std::vector<double>& levels_db, double room_dbfs, double rate,
                 std::vector<Placed>& places, const std::vector<double>& corners_hz = {}) {
  Signal x(static_cast<std::size_t>(rate));
  for (std::size_t i = 0; i < levels_db.size(); ++i) {
    Signal sentence;
    for (int word = 0; word < 5; ++word) {
      Signal burst = noise(static_cast<std::size_t>(0.4 * rate), -20, static_cast<std::uint64_t>(word + 1));
      sentence.insert(sentence.end(), burst.begin(), burst.end());
      if (word < 4) sentence.resize(sentence.size() + static_cast<std::size_t>(0.15 * rate), 0.0);
    }
    if (i < corners_hz.size() && corners_hz[i] > 0) sentence = duller(sentence, corners_hz[i], rate);
    places.push_back(
        {static_cast<double>(x.size()) / rate, static_cast<double>(x.size() + sentence.size()) / rate});
    sentence = scaled(sentence, ratio_from_db(levels_db[i]));
    x.insert(x.end(), sentence.begin(), sentence.end());
    x.resize(x.size() + static_cast<std::size_t>(1.5 * rate), 0.0);
  }
  return added(x, noise(x.size(), room_dbfs, 77));
}

TakesResult takes_of(const Signal& x, double rate = 48000, const TakesOptions& options = {}) {
  const Audio audio = audio_of(x, rate);
  MemorySource source(audio);
  return measure_takes(taken(source), options);
}

TEST(Takes, AreSplitMatchedAndTheirNoiseRead) {
  for (const double rate : {44100.0, 96000.0})
    for (const bool by_rms : {false, true}) {
      std::vector<Placed> places;
      const std::vector<double> levels = {0, -6, 3.5, -11};
      const auto result = takes_of(recording(levels, -70, rate, places), rate, {.by_rms = by_rms});
      ASSERT_EQ(result.takes.size(), levels.size());
      EXPECT_TRUE(result.threshold_found);
      EXPECT_GT(result.threshold_dbfs, -70);
      EXPECT_LT(result.threshold_dbfs, -31);
      for (std::size_t i = 0; i < levels.size(); ++i) {
        EXPECT_NEAR(result.takes[i].start_s, places[i].start_s, kEdgeS) << i;
        EXPECT_NEAR(result.takes[i].end_s, places[i].end_s, kEdgeS) << i;
        EXPECT_NEAR(result.takes[i].gain_db, -levels[i], kGainDb) << i;
        ASSERT_TRUE(result.takes[i].gap_rms);
        EXPECT_NEAR(db_from_ratio(*result.takes[i].gap_rms), -70, kGapDb);
        EXPECT_FALSE(result.takes[i].loss) << "nothing is missing";
      }
      const Sheet sheet = takes_sheet(result, {});
      EXPECT_EQ(*find_reading(sheet, "take_count", std::nullopt)->value, 4);
      EXPECT_NE(sheet.findings.back().text.find("after take 3 is lowest"), std::string::npos)
          << sheet.findings.back().text;
    }
}

// Butterworth filters of two and four poles (bilinear), under hiss that hides what they take off.
Signal low_passed(Signal x, int poles, double hz, double rate) {
  const double k = std::tan(M_PI * hz / rate);
  for (const double q : poles == 2 ? std::vector{0.70711} : std::vector{0.54120, 1.30656}) {
    const double n = 1 / (1 + k / q + k * k);
    x = filtered(x, {k * k * n, 2 * k * k * n, k * k * n, 2 * (k * k - 1) * n, (1 - k / q + k * k) * n});
  }
  return x;
}

TEST(Takes, WhatIsMissingAboveACornerIsToldUnderHiss) {
  const double rate = 48000;
  for (const int poles : {2, 4})
    for (const double corner : {1500.0, 3000.0})
      for (const double hiss_db : {-90.0, -60.0}) {
        std::vector<Placed> places;
        Signal x = recording({0, -4}, -200, rate, places);
        const auto from = static_cast<std::ptrdiff_t>((places[1].start_s - 0.5) * rate);
        const Signal dull = low_passed(Signal(x.begin() + from, x.end()), poles, corner, rate);
        std::copy(dull.begin(), dull.end(), x.begin() + from);
        const auto result = takes_of(added(x, noise(x.size(), hiss_db, 5)), rate);
        const std::string what =
            std::to_string(poles) + " at " + std::to_string(corner) + ", hiss " + std::to_string(hiss_db);
        ASSERT_EQ(result.takes.size(), 2U) << what;
        ASSERT_TRUE(result.takes[1].loss) << what;
        const TakeLoss& loss = *result.takes[1].loss;
        ASSERT_TRUE(loss.corner_hz) << what;
        EXPECT_NEAR(*loss.corner_hz / corner, 1, 0.12) << what;
        EXPECT_LE(std::abs(*loss.corner_hz - corner), 1.5 * loss.corner_uncertainty_hz + 0.02 * corner)
            << what;
        EXPECT_TRUE(loss.poles == poles || loss.poles == 0) << what << ": " << loss.poles;
        if (hiss_db < -80) {
          EXPECT_EQ(loss.poles, poles) << what;
        }
        EXPECT_LE(std::abs(loss.slope_db_per_octave - 6.02 * poles), loss.slope_uncertainty_db + 0.8) << what;
        if (hiss_db > -80 && poles == 4) {
          EXPECT_TRUE(result.takes[1].noise_from_hz) << what;
        }
      }
  std::vector<Placed> places;
  const Signal same = recording({0, -4, 2}, -60, rate, places);
  for (const RecordedTake& take : takes_of(same).takes) EXPECT_FALSE(take.loss);
  // Given where to look, the loss there is told: none, here.
  const auto given = takes_of(same, rate, {.above_hz = 4000});
  ASSERT_TRUE(given.takes[1].loss);
  EXPECT_NEAR(given.takes[1].loss->loss_db, 0, given.takes[1].loss->loss_uncertainty_db);
}

TEST(Takes, ShortGapsPartTakes) {
  const double rate = 48000;
  Signal x(static_cast<std::size_t>(rate), 0.0);
  for (int take = 0; take < 4; ++take) {
    for (int word = 0; word < 4; ++word) {
      const Signal burst = noise(static_cast<std::size_t>(0.4 * rate), -20, static_cast<std::uint64_t>(word));
      x.insert(x.end(), burst.begin(), burst.end());
      x.resize(x.size() + static_cast<std::size_t>((word < 3 ? 0.15 : 0.35) * rate), 0.0);
    }
  }
  EXPECT_EQ(takes_of(added(x, noise(x.size(), -70, 3))).takes.size(), 4U);
}

TEST(Takes, ThresholdAndGapCanBeGiven) {
  std::vector<Placed> places;
  const Signal x = recording({0, 0}, -70, 48000, places);
  EXPECT_EQ(takes_of(x, 48000, {.least_gap_s = 0.1}).takes.size(), 10U) << "every word is a take";
  EXPECT_EQ(takes_of(x, 48000, {.least_gap_s = 5}).takes.size(), 1U);
  const auto given = takes_of(x, 48000, {.threshold_dbfs = -45});
  EXPECT_EQ(given.threshold_dbfs, -45);
  EXPECT_FALSE(given.threshold_found);
}

TEST(Takes, BadInputIsAnswered) {
  auto refused = [&](ErrorCode code, const Signal& x, const TakesOptions& options = {}) {
    return message_of(code, [&] { (void)takes_of(x, 48000, options); });
  };
  EXPECT_NE(refused(ErrorCode::bad_input, {}).find("0 frames"), std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_input, Signal(48000, 0.0)).find("silent"), std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_input, noise(96000, -40, 1)).find("nothing"), std::string::npos)
      << "steady noise has no takes";
  EXPECT_NE(refused(ErrorCode::bad_argument, noise(96000, -40, 1), {.threshold_dbfs = 5}).find("threshold"),
            std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_argument, noise(96000, -40, 1), {.least_gap_s = 0}).find("gap"),
            std::string::npos);
  Signal broken = noise(96000, -40, 1);
  broken[7] = NAN;
  EXPECT_NE(refused(ErrorCode::bad_input, broken).find("NaN or infinity"), std::string::npos);
}

}  // namespace
}  // namespace wavicon::takes_test
