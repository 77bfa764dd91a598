// SPDX-License-Identifier: MIT
#include "wavicon/audio/source.hpp"

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/decimator.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::source_test {
namespace {

using namespace testing;

// Sample n of channel c is 100·c + n.
Audio numbered(int channels, std::int64_t frames) {
  Audio audio(48000, channels, frames);
  for (int c = 0; c < channels; ++c)
    for (std::int64_t n = 0; n < frames; ++n)
      audio.channel(c)[static_cast<std::size_t>(n)] = 100.0 * c + static_cast<double>(n);
  return audio;
}

TEST(MemorySource, OutsideIsSilence) {
  const Audio audio = numbered(2, 10);
  MemorySource source(audio);
  std::vector<double> planar(2 * 6, -1.0);
  source.read(-3, planar);
  EXPECT_EQ(planar, (std::vector<double>{0, 0, 0, 0, 1, 2, 0, 0, 0, 100, 101, 102}));
  source.read(7, planar);
  EXPECT_EQ(planar, (std::vector<double>{7, 8, 9, 0, 0, 0, 107, 108, 109, 0, 0, 0}));
  source.read(1000, planar);
  EXPECT_EQ(planar, std::vector<double>(12, 0.0));
  source.read(-1000, planar);
  EXPECT_EQ(planar, std::vector<double>(12, 0.0));
  EXPECT_EQ(read_channel(source, 1, 8, 4), (std::vector<double>{108, 109, 0, 0}));
  EXPECT_TRUE(read_channel(source, 0, 0, 0).empty());
}

TEST(MemorySource, StretchesAreCutToWhatThereIs) {
  const Audio audio = numbered(1, 10);
  MemorySource source(audio);
  EXPECT_EQ(read_stretch(source, -5, 8).frames(), 3);
  EXPECT_EQ(read_stretch(source, 8, 100).channel(0)[1], 9);
  EXPECT_EQ(read_stretch(source, 50, 5).frames(), 0);
}

TEST(MemorySource, BlocksFollowOneAnother) {
  const Audio audio = numbered(2, 10);
  MemorySource source(audio);
  std::vector<double> scratch(2 * 4), seen;
  std::vector<std::int64_t> firsts;
  for_each_block(source, 1, 10, scratch,
                 [&](std::int64_t first, std::span<const double> planar, std::int64_t count) {
                   firsts.push_back(first);
                   for (std::int64_t n = 0; n < count; ++n)
                     seen.push_back(planar[static_cast<std::size_t>(count + n)]);
                 });
  EXPECT_EQ(firsts, (std::vector<std::int64_t>{1, 5, 9}));
  EXPECT_EQ(seen, (std::vector<double>{101, 102, 103, 104, 105, 106, 107, 108, 109}));
}

TEST(Decimator, AValueDoesNotDependOnHowManyAreMade) {
  for (const std::size_t step : {1U, 3U, 8U}) {
    const Decimator decimate(step, 0.35);
    std::vector<double> x;
    for (int n = 0; n < 500; ++n) x.push_back(exact_sine(0.013, 0.8, n) + exact_sine(0.31, 0.1, n));
    EXPECT_TRUE(decimate(std::span<const double>(x).first(decimate.length() - 1)).empty());
    for (std::size_t count = 1; count <= 11; ++count) {
      const auto all = decimate(std::span<const double>(x).first(decimate.length() + (count - 1) * step));
      ASSERT_EQ(all.size(), count);
      for (std::size_t i = 0; i < count; ++i)
        EXPECT_EQ(all[i], decimate(std::span<const double>(x).subspan(i * step, decimate.length()))[0])
            << step << ", " << i << " of " << count;
    }
  }
}

TEST(Decimator, PassesWhatLiesLowAndStopsWhatWouldFold) {
  const Decimator decimate(8, 0.35);
  for (const auto& [hz, passes] :
       {std::pair{100.0, true}, {900.0, true}, {3300.0, false}, {5900.0, false}, {20000.0, false}}) {
    std::vector<double> x;
    for (int n = 0; n < 48000; ++n) x.push_back(exact_sine(hz, 48000, n));
    const auto low = decimate(x);
    EXPECT_EQ(low.size(), (48000 - decimate.length()) / 8 + 1);
    const double highest_db = db_from_ratio(peak(low) + 1e-12);
    if (passes)
      EXPECT_NEAR(highest_db, 0, 0.02) << hz;
    else
      EXPECT_LT(highest_db, -75) << hz;
  }
  EXPECT_TRUE(decimate(std::vector<double>(10, 1.0)).empty());
}

TEST(SolveBlock, SolvesAndTellsTheVarianceOfTheLast) {
  // AᵀA of a made-up A; the inverse by solving for unit vectors. Sizes beside those of registers and of what
  // is taken off at once.
  for (const std::size_t size : {1, 2, 4, 5, 6, 8, 9, 13, 31, 67}) {
    const std::size_t rows = 4 * size + 16;
    std::vector<double> a(rows * size), matrix(size * size, 0.0);
    for (std::size_t i = 0; i < a.size(); ++i) a[i] = random_uniform(3, 0, i) - 0.5;
    for (std::size_t i = 0; i < size; ++i)
      for (std::size_t j = 0; j < size; ++j)
        for (std::size_t r = 0; r < rows; ++r) matrix[i * size + j] += a[r * size + i] * a[r * size + j];
    std::vector<std::vector<double>> sides(size, std::vector<double>(size, 0.0));
    for (std::size_t i = 0; i < size; ++i) sides[i][i] = 1;
    // Only the lower triangle is read.
    std::vector<double> lower = matrix;
    for (std::size_t i = 0; i < size; ++i)
      for (std::size_t j = i + 1; j < size; ++j) lower[i * size + j] = std::nan("");
    for (const std::size_t wanted : {std::size_t{1}, (size + 1) / 2, size}) {
      const BlockSolution solution = solve_block(lower, size, sides, wanted);
      ASSERT_TRUE(solution.solved) << size;
      for (std::size_t i = 0; i < size; ++i)
        for (std::size_t j = 0; j < size; ++j) {
          double product = 0;
          for (std::size_t k = 0; k < size; ++k) product += matrix[j * size + k] * solution.unknowns[i][k];
          ASSERT_NEAR(product, i == j ? 1 : 0, 1e-12) << size;
        }
      ASSERT_EQ(solution.last_inverse_diagonal.size(), wanted);
      // What an earlier system left in the room is read by nobody.
      std::vector<double> room(3 * (size + 16) * (size + 16), std::nan(""));
      const BlockSolution again = solve_block(lower, size, sides, wanted, room);
      ASSERT_EQ(again.unknowns, solution.unknowns);
      ASSERT_EQ(again.last_inverse_diagonal, solution.last_inverse_diagonal);
      for (std::size_t i = 0; i < wanted; ++i) {
        const std::size_t at = size - wanted + i;
        ASSERT_NEAR(solution.last_inverse_diagonal[i], solution.unknowns[at][at], 1e-12) << size;
      }
    }
  }
  const std::vector<std::vector<double>> side = {{1, 1}};
  EXPECT_FALSE(solve_block(std::vector<double>{0, 0, 0, -1}, 2, side, 1).solved);
  EXPECT_FALSE(solve_block(std::vector<double>{1, 0, 1, 1}, 2, side, 1).solved);  // of rank 1
  EXPECT_FALSE(solve_block(std::vector<double>{1, 0, std::nan(""), 1}, 2, side, 1).solved);
}

}  // namespace
}  // namespace wavicon::source_test
