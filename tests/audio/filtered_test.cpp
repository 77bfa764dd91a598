// SPDX-License-Identifier: MIT
#include "wavicon/audio/filtered.hpp"

#include "support.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::filtered_test {
namespace {

using namespace testing;

constexpr double kRounding = 1e-13;

std::vector<double> random_run(std::size_t length, std::uint64_t seed) {
  std::vector<double> x(length);
  for (std::size_t i = 0; i < length; ++i) x[i] = random_uniform(seed, 0, i) - 0.5;
  return x;
}

TEST(Convolver, IsTheSumOverItsTaps) {
  for (const std::size_t taps : {1U, 2U, 7U, 64U, 1000U, 4097U})
    for (const std::size_t length : {1U, 63U, 5000U}) {
      const auto h = random_run(taps, 1), x = random_run(length + taps - 1, 2);
      std::vector<double> y(length);
      Convolver(h).apply(x, y);
      for (std::size_t n = 0; n < length; n += 1 + length / 17) {
        double sum = 0;
        for (std::size_t k = 0; k < taps; ++k) sum += h[k] * x[n + taps - 1 - k];
        ASSERT_NEAR(y[n], sum, kRounding * static_cast<double>(taps)) << taps << " taps, frame " << n;
      }
    }
  Convolver one(std::vector<double>{2.0});
  one.apply({}, {});
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [] { Convolver(std::vector<double>{}); }), "one tap");
}

TEST(FilteredSource, IsTheSameForAnyBlocksWithTheMiddleTapAtTheFrame) {
  Audio audio(48000, 2, 3000);
  for (int c = 0; c < 2; ++c) {
    const auto x = random_run(3000, static_cast<std::uint64_t>(c) + 5);
    std::copy(x.begin(), x.end(), audio.channel(c).begin());
  }
  MemorySource source(audio);
  // The right channel three frames late and halved, the left one as it is: filters of different lengths.
  std::vector<double> late(9, 0.0);
  late[9 / 2 + 3] = 0.5;
  FilteredSource filtered(source, {{1.0}, late});
  EXPECT_EQ(filtered.frames(), 3000);
  EXPECT_EQ(filtered.channel_count(), 2);
  for (const std::int64_t block : {1, 17, 1000, 3100}) {
    std::vector<double> planar(static_cast<std::size_t>(2 * block));
    for (std::int64_t at = -20; at < 3000; at += std::max<std::int64_t>(block, 401)) {
      filtered.read(at, planar);
      for (std::int64_t n = 0; n < block; ++n) {
        const auto value = [&](int c, std::int64_t frame) {
          return frame < 0 || frame >= 3000 ? 0.0 : audio.channel(c)[static_cast<std::size_t>(frame)];
        };
        ASSERT_NEAR(planar[static_cast<std::size_t>(n)], value(0, at + n), kRounding);
        ASSERT_NEAR(planar[static_cast<std::size_t>(block + n)], 0.5 * value(1, at + n - 3), kRounding);
      }
    }
  }
  EXPECT_HAS(message_of(ErrorCode::bad_argument,
                        [&] {
                          FilteredSource(source, {{1.0}, {1.0}, {1.0}});
                        }),
             "3 filters for 2 channels");
}

// Counts what is read of it, and fails when it is told to.
struct CountedSource : AudioSource {
  explicit CountedSource(const Audio& audio) : memory(audio) {}
  [[nodiscard]] double sample_rate_hz() const noexcept override { return memory.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return memory.channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return memory.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override {
    if (fails) throw Error(ErrorCode::bad_input, "gone");
    ++reads;
    memory.read(first_frame, planar);
  }
  MemorySource memory;
  int reads = 0;
  bool fails = false;
};

TEST(FilteredSource, IsFilteredOnceHoweverItIsRead) {
  Audio audio(48000, 1, 200000);
  const auto x = random_run(200000, 9);
  std::copy(x.begin(), x.end(), audio.channel(0).begin());
  CountedSource source(audio);
  const std::vector<std::vector<double>> filter{random_run(2001, 3)};
  std::vector<double> whole(200100), piece(77);
  FilteredSource(source, filter).read(-50, whole);
  const int for_all = source.reads;
  source.reads = 0;
  FilteredSource filtered(source, filter);
  for (std::int64_t i = 0; i < 4000; ++i) {
    const std::int64_t at = i * 7919 % 200000;
    filtered.read(at - 50, piece);
    for (std::size_t n = 0; n < piece.size(); ++n)
      ASSERT_EQ(piece[n], whole[static_cast<std::size_t>(at) + n]) << at;
  }
  EXPECT_LE(source.reads, for_all);
  EXPECT_LT(for_all, 50);

  // What could not be read is read again, not taken for what was there.
  FilteredSource again(source, filter);
  source.fails = true;
  EXPECT_THROW(again.read(100, piece), Error);
  source.fails = false;
  again.read(100, piece);
  EXPECT_EQ(piece[0], whole[150]);
}

// More channels and taps than are kept: the oldest blocks make room.
TEST(FilteredSource, LongCapturesAreFilteredInTheMemoryOfAFew) {
  Audio audio(48000, 64, 60000);
  for (int c = 0; c < 64; ++c) audio.channel(c)[59999] = c + 1;
  MemorySource memory(audio);
  FilteredSource filtered(memory, {{1, 0, 0}});
  std::vector<double> planar(64);
  for (int round = 0; round < 2; ++round)
    for (const std::int64_t at : {0, 10000, 20000, 30000, 40000, 59998, 59999}) {
      filtered.read(at, planar);
      for (std::size_t c = 0; c < 64; ++c)
        ASSERT_NEAR(planar[c], at == 59998 ? static_cast<double>(c + 1) : 0, 1e-12) << at;
    }
}

}  // namespace
}  // namespace wavicon::filtered_test
