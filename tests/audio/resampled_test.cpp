// SPDX-License-Identifier: MIT
#include "wavicon/audio/resampled.hpp"

#include "support.hpp"

namespace wavicon::resampled_test {
namespace {

using namespace testing;

TEST(ResampledSource, ReadsAToneAsIfItHadBeenSampledFaster) {
  for (const double rate : {44100.0, 48000.0})
    for (const double faster : {48000.0, 96000.0, 192000.0}) {
      Audio audio(rate, 2, 20000);
      for (std::int64_t n = 0; n < audio.frames(); ++n) {
        audio.channel(0)[static_cast<std::size_t>(n)] = 0.5 * exact_sine(997, rate, n);
        audio.channel(1)[static_cast<std::size_t>(n)] = 0.25 * exact_sine(15013, rate, n);
      }
      MemorySource source(audio);
      ResampledSource resampled(source, faster);
      EXPECT_EQ(resampled.channel_count(), 2);
      EXPECT_EQ(resampled.sample_rate_hz(), faster);
      EXPECT_EQ(resampled.frames(), static_cast<std::int64_t>(std::floor(20000 * faster / rate)));
      // In pieces of an odd length, so that every place is read from another start.
      std::vector<double> piece(2 * 777);
      for (std::int64_t first = 200; first + 1000 < resampled.frames(); first += 777) {
        resampled.read(first, piece);
        for (std::size_t n = 0; n < 777; n += 31) {
          EXPECT_NEAR(piece[n], 0.5 * exact_sine(997, faster, first + static_cast<std::int64_t>(n)), 1e-7);
          EXPECT_NEAR(piece[777 + n], 0.25 * exact_sine(15013, faster, first + static_cast<std::int64_t>(n)),
                      1e-7);
        }
      }
    }
}

TEST(ResampledSource, ALowerRateIsRefused) {
  const Audio audio(48000, 1, 10);
  MemorySource source(audio);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { ResampledSource lower(source, 44100); }).find("44100"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::resampled_test
