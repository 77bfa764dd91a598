// SPDX-License-Identifier: MIT
// What runs within the callback of a sound server: sample-aligned, faded, and without allocating.

#include "wavicon/path/live.hpp"

#include <cstdlib>
#include <new>

#include "path/feeding.hpp"

namespace {
thread_local bool trap = false;
thread_local int trapped = 0;
}  // namespace

#if !defined(__SANITIZE_ADDRESS__)  // which has its own
void* operator new(std::size_t size) {
  if (trap) ++trapped;
  if (void* memory = std::malloc(size)) return memory;
  throw std::bad_alloc();
}
void operator delete(void* memory) noexcept {
  if (trap) ++trapped;
  std::free(memory);
}
void operator delete(void* memory, std::size_t) noexcept {
  if (trap) ++trapped;
  std::free(memory);
}
#endif

namespace wavicon::live_test {
namespace {

using namespace testing;

TEST(LiveTransport, PlaysAndRecordsOnTheSameFramesWithoutAllocating) {
  const auto stimulus = noise(3000, 1);
  LiveTransport transport({stimulus, stimulus}, 1, 3500, 48000);
  std::vector<float> in(256), left(256), right(256), played, heard;
  const float* ins[] = {in.data()};
  float* outs[] = {left.data(), right.data()};
  // A cable: what comes out of one block goes into the next.
  for (int block = 0; block < 3; ++block) transport.cycle(ins, outs, 256);
  EXPECT_EQ(transport.position(), 0);
  for (const float v : left) EXPECT_EQ(v, 0.0F);
  transport.start();
  while (!transport.done()) {
    trap = true;
    transport.cycle(ins, outs, 256);
    trap = false;
    played.insert(played.end(), left.begin(), left.end());
    in = left;
    ins[0] = in.data();
  }
  EXPECT_EQ(trapped, 0);
  const auto& recorded = transport.recorded()[0];
  ASSERT_EQ(recorded.size(), 3500U);
  for (std::size_t n = 240; n < 2700; ++n) {
    ASSERT_EQ(played[n], stimulus[n]) << n;
    ASSERT_EQ(recorded[n + 256], played[n]) << n;
  }
  EXPECT_EQ(played[0], 0.0F) << "faded in over 5 ms";
  EXPECT_LT(std::abs(played[2999]), 1e-3F);
  EXPECT_EQ(played[3100], 0.0F);
  EXPECT_EQ(left, right);
  EXPECT_GT(transport.peak(), 0.5F);
  EXPECT_EQ(transport.idle_peak(), 0.0F);
}

TEST(LiveTransport, OnlyRecords) {
  LiveTransport transport({}, 2, 100, 48000);
  std::vector<float> left(64, 0.25F), right(64, -0.5F);
  const float* ins[] = {left.data(), right.data()};
  transport.start();
  transport.cycle(ins, nullptr, 64);
  transport.cycle(ins, nullptr, 64);
  EXPECT_TRUE(transport.done());
  EXPECT_EQ(transport.recorded()[1][99], -0.5F);
  EXPECT_EQ(transport.peak(), 0.5F);
}

TEST(Live, WithoutAServerOrAboveTheCeilingNothingIsPlayed) {
  const LiveOptions options{.server = "no-such-server", .to = "x", .from = "y"};
  const std::string said = message_of(ErrorCode::unit_failed, [&] {
    (void)play_and_record({std::vector<float>(100, 0.1F)}, 48000, options);
  });
  if (said.find("this build knows no JACK") != std::string::npos) GTEST_SKIP() << said;
  EXPECT_NE(said.find("there is no JACK server 'no-such-server'"), std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] { (void)play_and_record({std::vector<float>(100, 0.9F)}, 48000, options); })
                .find("the ceiling is -6 dBFS"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::live_test
