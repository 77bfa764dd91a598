// SPDX-License-Identifier: MIT
// What the server's thread touches: the ring of samples and the generator. It neither allocates nor clicks.

#include <atomic>
#include <cmath>
#include <cstdlib>
#include <new>
#include <numbers>
#include <thread>

#include "support.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/sample_ring.hpp"
#include "wavicon/live/generator.hpp"
#include "wavicon/measure/levels/levels.hpp"
#include "wavicon/measure/rolling.hpp"

namespace {
thread_local bool forbidden = false;
std::atomic<int> allocations{0};
}  // namespace

#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)  // which have their own
// Not inlined: GCC 12 takes the pair for one that does not fit.
[[gnu::noinline]] void* operator new(std::size_t size) {
  if (forbidden) ++allocations;
  if (void* memory = std::malloc(size)) return memory;
  throw std::bad_alloc();
}
[[gnu::noinline]] void operator delete(void* memory) noexcept { std::free(memory); }
[[gnu::noinline]] void operator delete(void* memory, std::size_t) noexcept { std::free(memory); }
#endif

namespace wavicon::ring_test {
namespace {

struct Forbidden {
  Forbidden() { forbidden = true; }
  ~Forbidden() { forbidden = false; }
};

std::vector<float> rendered(Generator& generator, std::int64_t frames) {
  std::vector<float> all(static_cast<std::size_t>(frames));
  float* out[] = {all.data()};
  generator.render(out, 1, frames);
  return all;
}

TEST(SampleRing, HoldsTheNewest) {
  SampleRing ring(2, 1000);
  EXPECT_GE(ring.capacity(), 1000);
  std::vector<float> left(333), right(333);
  const float* planar[] = {left.data(), right.data()};
  std::int64_t n = 0;
  for (int block = 0; block < 50; ++block) {
    for (std::size_t i = 0; i < left.size(); ++i) {
      left[i] = static_cast<float>(n++);
      right[i] = -left[i];
    }
    const Forbidden nothing;
    ring.write(planar, 333);
  }
  EXPECT_EQ(ring.written(), n);
  std::vector<double> read(1000);
  ASSERT_TRUE(ring.read(1, n - 1000, read));
  for (std::size_t i = 0; i < read.size(); ++i)
    ASSERT_EQ(read[i], -static_cast<double>(n - 1000 + static_cast<std::int64_t>(i)));
  EXPECT_FALSE(ring.read(0, n - 999, read)) << "not there yet";
  EXPECT_FALSE(ring.read(0, 0, read)) << "no longer there";
  EXPECT_FALSE(ring.read(2, n - 1000, read));
  EXPECT_FALSE(ring.read(0, -1, read));
  EXPECT_THROW(SampleRing(0, 1), Error);
  EXPECT_THROW(SampleRing(1, 0), Error);
}

// A reader that is overtaken is told so: what it has read is never a mixture.
TEST(SampleRing, NeverHandsOutAMixture) {
  SampleRing ring(1, 512);
  std::atomic<bool> over{false}, enough{false};
  std::thread writer([&] {
    std::vector<float> block(64);
    const float* planar[] = {block.data()};
    // As far as a float counts by ones.
    for (int n = 0; n < 16'000'000 && !enough; n += 64) {
      if (n % 6400 == 0) std::this_thread::yield();
      for (int i = 0; i < 64; ++i) block[static_cast<std::size_t>(i)] = static_cast<float>(n + i);
      ring.write(planar, 64);
    }
    over = true;
  });
  std::vector<double> read(512);
  long whole = 0;
  while (!over) {
    const std::int64_t first = ring.written() - 512;
    if (first < 0 || !ring.read(0, first, read)) continue;
    enough = ++whole == 2000;
    for (std::size_t i = 0; i < read.size(); ++i)
      ASSERT_EQ(read[i], static_cast<double>(first + static_cast<std::int64_t>(i)));
  }
  writer.join();
  EXPECT_GT(whole, 20);
}

TEST(Generator, PlaysTheToneThatItSays) {
  Generator generator({.frequency_hz = 997, .level_dbfs = -20});
  std::vector<float> block(96000);
  float* out[] = {block.data()};
  {
    const Forbidden nothing;
    generator.render(out, 1, 96000);
  }
  EXPECT_EQ(allocations, 0);
  // After 20 ms of rising it is the sine in closed form, to what a float holds.
  for (std::size_t n = 2000; n < block.size(); ++n)
    ASSERT_NEAR(block[n], 0.1 * std::sin(2 * std::numbers::pi * 997 * static_cast<double>(n) / 48000), 1e-8)
        << n;
  EXPECT_EQ(generator.rendered(), 96000);
}

// The steepest a tone of that frequency and level is, plus the ramp: anything more is a click.
TEST(Generator, TurnsWithoutClicks) {
  Generator generator({.frequency_hz = 100, .level_dbfs = -6});
  float last = 0;
  const auto steepest = [&](std::int64_t frames) {
    double most = 0;
    for (const float v : rendered(generator, frames)) {
      most = std::max(most, static_cast<double>(std::abs(v - last)));
      last = v;
    }
    return most;
  };
  const double slope = 2 * std::numbers::pi * 100 / 48000 * 0.5012, ramp = 1 / (0.02 * 48000);
  EXPECT_LE(steepest(4800), slope + ramp);
  generator.switch_on(false);
  EXPECT_LE(steepest(2400), slope + ramp);
  for (const float v : rendered(generator, 100)) EXPECT_EQ(v, 0);
  generator.switch_on(true);
  EXPECT_LE(steepest(2400), slope + ramp);
  generator.set_level(-26);
  EXPECT_LE(steepest(2400), slope + ramp);
  generator.set_frequency(150);
  EXPECT_LE(steepest(2400), 1.5 * slope + ramp);
}

TEST(Generator, StaysBelowItsCeiling) {
  EXPECT_THROW(Generator({.level_dbfs = -3, .ceiling_dbfs = -6}), Error);
  EXPECT_THROW(Generator({.frequency_hz = 24000}), Error);
  EXPECT_THROW(Generator({.frequency_hz = std::nan("")}), Error);
  EXPECT_THROW(Generator({.loop = {{0, 0, 0}}}), Error);
  Generator tone({.level_dbfs = -20, .ceiling_dbfs = -12});
  EXPECT_EQ(tone.set_level(0), -12);
  EXPECT_EQ(tone.set_level(-1000), -140);
  EXPECT_EQ(tone.set_frequency(1e9), 0.49 * 48000);
  // A loop of whatever level comes at the level that is asked for.
  Generator loop({.level_dbfs = -20, .loop = {{0.5F, -1.5F, 0.25F}, {0.1F, 0.2F, 0.3F}}});
  EXPECT_EQ(loop.channel_count(), 2);
  (void)rendered(loop, 3000);
  const auto whole = rendered(loop, 6);
  EXPECT_NEAR(whole[1], -0.1, 1e-7);
  EXPECT_NEAR(whole[3], 0.1 / 3, 1e-7);
}

// Loudness since the beginning, in a callback: ten seconds that were reserved.
TEST(LevelMeter, AllocatesNothingOnceItIsReserved) {
  LevelMeter meter(2, 48000, {});
  meter.reserve(10, 256);
  std::vector<double> block(512);
  allocations = 0;
  for (int i = 0; i < 1875; ++i) {
    for (std::size_t n = 0; n < block.size(); ++n)
      block[n] = 0.2 * std::sin(0.13 * static_cast<double>(i * 256 + static_cast<int>(n % 256)));
    const Forbidden nothing;
    meter.push(block);
  }
  EXPECT_EQ(allocations, 0);
  EXPECT_NEAR(meter.finish().loudness.integrated_lufs.value(), -13.9, 0.2);
}

// What an audio callback calls, for every measurement of one stream and of two.
TEST(Rolling, NeitherAllocatesNorThrowsWhereItIsPushed) {
  std::vector<float> block(512, 0.25F);
  std::vector<double> wide(512, 0.25);
  const float* planar[] = {block.data(), block.data() + 256};
  const double* planar_wide[] = {wide.data(), wide.data() + 256};
  for (const char* name : {"health", "levels", "spectrum", "noise", "harmonics", "null", "latency", "pair"}) {
    Rolling rolling(name, {.window_s = 0.1});
    rolling.prepare(48000, 2);
    allocations = 0;
    {
      const Forbidden nothing;
      for (int i = 0; i < 1000; ++i) {
        rolling.push(planar, 256);
        rolling.push(planar_wide, 256);
        rolling.push_interleaved(block.data(), 256);
        rolling.push_interleaved(wide.data(), 256);
        rolling.push(planar, planar, 256);
        rolling.push(planar_wide, planar_wide, 256);
      }
    }
    EXPECT_EQ(allocations, 0) << name;
    EXPECT_GT(rolling.pushed_s(), 10) << name;
  }
}

}  // namespace
}  // namespace wavicon::ring_test
