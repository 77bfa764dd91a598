// SPDX-License-Identifier: MIT
#include "wavicon/measure/takes/takes.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon {
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
        EXPECT_FALSE(result.takes[i].missing_from_hz) << "nothing is missing";
      }
      const Sheet sheet = takes_sheet(result, {});
      EXPECT_EQ(*find_reading(sheet, "take_count", std::nullopt)->value, 4);
      EXPECT_NE(sheet.findings.back().text.find("after take 3 is lowest"), std::string::npos)
          << sheet.findings.back().text;
    }
}

TEST(Takes, MissingTrebleIsFoundWithItsSlope) {
  std::vector<Placed> places;
  const auto result = takes_of(recording({0, 0}, -110, 48000, places, {0, 2500}));
  ASSERT_EQ(result.takes.size(), 2U);
  ASSERT_TRUE(result.takes[1].missing_from_hz);
  EXPECT_GT(*result.takes[1].missing_from_hz, 2000);
  EXPECT_LT(*result.takes[1].missing_from_hz, 7500);
  // White noise rises by 3 dB per octave in third octaves; two poles take 12 off.
  EXPECT_NEAR(result.takes[1].first_slope_db_per_octave, 3, 0.7);
  EXPECT_NEAR(result.takes[1].slope_db_per_octave, 3 - 9, 4);
  EXPECT_LT(result.takes[1].missing_db, -8);
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
}  // namespace wavicon
