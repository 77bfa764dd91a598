// SPDX-License-Identifier: MIT
#include "wavicon/intake/hits.hpp"

#include "intake/hit_signals.hpp"

namespace wavicon::hits_test {
namespace {

using namespace testing;

std::optional<HitRow> row_between(const std::vector<double>& x, const std::vector<double>& y, double rate) {
  const Audio a = audio_of(x, rate), b = audio_of(y, rate);
  MemorySource reference(a), capture(b);
  return align_hits(reference, capture);
}

TEST(Hits, EachIsFoundWhereItBegins) {
  for (const double rate : {44100.0, 96000.0, 192000.0}) {
    const RowOfHits row = row_of(12, 4);
    const Audio audio = audio_of(samples_of(row, rate), rate);
    MemorySource source(audio);
    const auto hits = find_hits(source);
    ASSERT_EQ(hits.size(), row.times_s.size()) << rate;
    for (std::size_t i = 0; i < hits.size(); ++i)
      EXPECT_NEAR(static_cast<double>(hits[i].first_frame) / rate, row.times_s[i], 0.006) << rate << " " << i;
    EXPECT_TRUE(is_row_of_hits(source));
  }
}

// Every hit late by frames of its own.
TEST(Hits, ExactCopiesLieExactlyWhereTheyAreWhateverEachDoes) {
  for (const double rate : {44100.0, 96000.0}) {
    const RowOfHits row = row_of(10, 9);
    RowOfHits played = row;
    for (std::size_t i = 0; i < played.late.size(); ++i)
      played.late[i] = std::floor(400 * random_uniform(3, 1, i)) - 200;
    for (const double late : {0.0, 517.0, 48000.0, -10000.0}) {
      auto y = samples_of(played, rate, late);
      for (double& v : y) v *= -0.1;
      const auto found = row_between(samples_of(row, rate), y, rate);
      ASSERT_TRUE(found) << rate << " " << late;
      EXPECT_NEAR(found->gain, -0.1, 1e-9);
      EXPECT_TRUE(found->candidates.empty());
      ASSERT_GE(found->hits.size(), late == 48000 ? 8U : 9U);
      std::size_t at = 0;
      for (const HitDelay& one : found->hits) {
        while (std::abs(row.times_s[at] * rate - static_cast<double>(one.first_frame)) > 0.01 * rate) ++at;
        EXPECT_NEAR(one.delay_frames, played.late[at] + late, 1e-6) << rate << " hit " << at;
        EXPECT_NEAR(one.match, 1, 1e-6);
      }
    }
  }
}

TEST(Hits, BetweenSamplesInNoiseEachLiesWithinItsUncertainty) {
  const RowOfHits row = row_of(24, 2);
  RowOfHits played = row;
  for (std::size_t i = 0; i < played.late.size(); ++i) played.late[i] = 261.37 + 3 * gaussian(8, i);
  auto y = samples_of(played, 48000);
  for (std::size_t n = 0; n < y.size(); ++n) y[n] += 0.25 * ratio_from_db(-50) * gaussian(12, n);
  const auto found = row_between(samples_of(row, 48000), y, 48000);
  ASSERT_TRUE(found);
  ASSERT_EQ(found->hits.size(), 24U);
  int within = 0;
  for (std::size_t i = 0; i < 24; ++i) {
    EXPECT_NEAR(found->hits[i].delay_frames, played.late[i], 0.1) << i;
    within += std::abs(found->hits[i].delay_frames - played.late[i]) < found->hits[i].uncertainty_frames;
  }
  EXPECT_GE(within, 21);
}

TEST(Hits, AnotherRowIsRefused) {
  for (std::uint64_t seed = 1; seed <= 20; ++seed) {
    const auto x = samples_of(row_of(12, seed), 48000, 0, true);
    EXPECT_FALSE(row_between(x, samples_of(row_of(12, seed + 100), 48000, 0, true), 48000)) << seed;
    // The same rhythm, another drum.
    RowOfHits other = row_of(12, seed);
    for (auto& s : other.seeds) s = seed + 500;
    EXPECT_FALSE(row_between(x, samples_of(other, 48000, 0, true), 48000)) << seed;
  }
}

// One sound at one distance: where the row begins and ends tells; without its ends it may be anywhere.
TEST(Hits, ARegularRowWithoutItsEndsHasCandidates) {
  RowOfHits row = row_of(10, 1);
  for (std::size_t i = 0; i < row.times_s.size(); ++i) row.times_s[i] = 0.3 + 0.5 * static_cast<double>(i);
  const auto x = samples_of(row, 48000, 0, true);
  const auto whole = row_between(x, padded(x, 900, 48000), 48000);
  ASSERT_TRUE(whole);
  EXPECT_TRUE(whole->candidates.empty());
  EXPECT_NEAR(whole->hits.front().delay_frames, 900, 1e-6);
  const std::vector<double> middle(x.begin() + 48000 * 2, x.begin() + 48000 * 4);
  const auto part = row_between(x, middle, 48000);
  ASSERT_TRUE(part);
  ASSERT_FALSE(part->candidates.empty());
  EXPECT_NEAR(std::fmod(part->candidates[0] - part->hits.front().delay_frames, 24000), 0, 60);
}

// The same, with accents: they lie where they lie.
TEST(Hits, LoudAndSoftHitsTellARegularRowApart) {
  RowOfHits row = row_of(16, 1);
  for (std::size_t i = 0; i < row.times_s.size(); ++i) row.times_s[i] = 0.3 + 0.6 * static_cast<double>(i);
  auto x = samples_of(row, 48000, 0, true);
  x.resize(480000);
  for (std::size_t i = 0; i < row.times_s.size(); ++i)
    for (std::size_t n = 0; n < 24000; ++n)
      x[static_cast<std::size_t>((row.times_s[i] - 0.05) * 48000) + n] *= 0.4 + 0.6 * random_uniform(3, 3, i);
  const auto y = later(x, 96, 480000);
  const auto found = row_between(x, y, 48000);
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->hits.front().delay_frames, 96, 1e-6);
  EXPECT_TRUE(found->candidates.empty());
}

TEST(Hits, NothingIsFoundWhereThereIsNone) {
  EXPECT_FALSE(row_between(std::vector<double>(48000), std::vector<double>(48000), 48000));
  EXPECT_FALSE(row_between({0.5}, {0.5}, 48000));
  const auto row = samples_of(row_of(8, 3), 48000);
  EXPECT_FALSE(row_between(row, std::vector<double>(96000), 48000));
  std::vector<double> noise(96000);
  for (std::size_t n = 0; n < noise.size(); ++n) noise[n] = 0.1 * gaussian(3, n);
  EXPECT_FALSE(row_between(row, noise, 48000));
  const Audio steady = audio_of(noise, 48000);
  MemorySource source(steady);
  EXPECT_FALSE(is_row_of_hits(source));
  EXPECT_THROW((void)find_hits(source, 1), Error);
  const Audio none(48000, 1, 0);
  MemorySource empty(none);
  EXPECT_THROW((void)find_hits(empty), Error);
}

}  // namespace
}  // namespace wavicon::hits_test
