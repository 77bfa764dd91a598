// SPDX-License-Identifier: MIT
// Plugins that misbehave are reported by name and place, and nothing else happens.

#include <csignal>
#include <filesystem>

#include "path/feeding.hpp"

namespace wavicon::isolated_test {
namespace {

using namespace testing;

const std::string kHostile = std::string("lv2:") + WAVICON_HOSTILE_BUNDLE + ":";

std::string report(const std::string& name, double patience_s = 10) {
  std::vector<std::unique_ptr<Unit>> units;
  UnitSearch search = kSearch;
  search.patience_s = patience_s;
  units.push_back(open_unit(parse_unit(kHostile + name), search));
  Chain chain(std::move(units));
  return message_of(ErrorCode::unit_failed, [&] {
    chain.prepare(48000, 1, 256);
    chain.feed(
        [](std::span<float> block) {
          std::fill(block.begin(), block.end(), 0.1F);
          return static_cast<std::int64_t>(block.size());
        },
        48000, [](std::span<const float>) {}, {.block_frames = 256});
  });
}

// Sixteen blocks of 25 ms are on their way at once: each that is done is progress.
TEST(Isolation, ASlowPluginDoesNotHang) {
  UnitSearch search = kSearch;
  search.patience_s = 0.2;
  std::vector<std::unique_ptr<Unit>> units;
  units.push_back(
      open_unit(parse_unit(std::string("lv2:") + WAVICON_TEST_BUNDLES + "/test.lv2:slow"), search));
  Chain chain(std::move(units));
  chain.prepare(48000, 1, 256);
  std::int64_t frames = 0;
  chain.feed(
      [](std::span<float> block) {
        std::fill(block.begin(), block.end(), 0.1F);
        return static_cast<std::int64_t>(block.size());
      },
      32 * 256, [&](std::span<const float> out) { frames += static_cast<std::int64_t>(out.size()); },
      {.block_frames = 256});
  EXPECT_EQ(frames, 32 * 256);
}

TEST(Isolation, EveryFaultIsNamedWithItsPlace) {
  const std::pair<const char*, const char*> cases[] = {
#ifndef __SANITIZE_ADDRESS__  // which takes these two upon itself
      {"crashes", "crashed (it touched memory that is not its own)"},
      {"takes-all-memory", "asked for more than 2048 MiB of memory"},
#endif
      {"aborts", "gave up (abort)"},
      {"exits", "ended the program (exit 0)"},
      {"throws", "threw: out of ideas"},
      {"divides-by-zero", "crashed (a division that is not defined)"},
      {"writes-beyond", "wrote or read beyond its buffer"},
      {"writes-before", "wrote before the start of its buffer"}};
  for (const auto& [name, what] : cases) {
    const std::string text = report(name);
    EXPECT_NE(text.find(what), std::string::npos) << name << ": " << text;
    EXPECT_NE(text.find(name), std::string::npos) << text;
    EXPECT_NE(text.find("in the block at frame 512 (0.010667 s of the stimulus)"), std::string::npos) << text;
    EXPECT_EQ(text.find('\n'), std::string::npos);
  }
  EXPECT_NE(report("hangs", 0.3).find("hangs: no progress in 0.3 s in the block at frame 512"),
            std::string::npos);
  EXPECT_NE(report("writes-infinity").find("wrote an infinite value into channel 1 at frame 515"),
            std::string::npos);
  EXPECT_NE(report("crashes-at-start").find("while it was started"), std::string::npos);
}

// Both go wrong in the third block; several blocks go through the first unit before the second one has any.
TEST(Isolation, OfTwoFaultsInABlockTheFirstUnitsCounts) {
  const auto told = [](const std::string& first, const std::string& second) {
    return message_of(ErrorCode::unit_failed, [&] {
      (void)feed({kHostile + first, kHostile + second}, {noise(9000, 5)}, {.block_frames = 256});
    });
  };
  EXPECT_NE(told("aborts", "writes-infinity").find("aborts gave up (abort) in the block at frame 512"),
            std::string::npos)
      << told("aborts", "writes-infinity");
  EXPECT_NE(told("writes-infinity", "aborts").find("wrote an infinite value into channel 1 at frame 515"),
            std::string::npos);
}

TEST(Isolation, GivesTheSameSamplesAsTheSameProcess) {
  const Channels in = {noise(5000, 3), noise(5000, 4)};
  UnitSearch together = kSearch;
  together.isolate = false;
  for (const int block : {1, 37, 512}) {
    const auto apart =
        feed({"lv2:urn:saltmarsh:tern?drive=20&oversampling=4", "lv2:urn:saltmarsh:plover?threshold=-30"}, in,
             {.block_frames = block});
    std::vector<std::unique_ptr<Unit>> units;
    for (const char* unit :
         {"lv2:urn:saltmarsh:tern?drive=20&oversampling=4", "lv2:urn:saltmarsh:plover?threshold=-30"})
      units.push_back(open_unit(parse_unit(unit), together));
    Chain chain(std::move(units));
    chain.prepare(48000, 2, block);
    Channels out(2);
    std::size_t at = 0;
    chain.feed(
        [&](std::span<float> samples) {
          for (std::size_t i = 0; i < samples.size(); ++i) samples[i] = in[i % 2][at + i / 2];
          at += samples.size() / 2;
          return static_cast<std::int64_t>(samples.size() / 2);
        },
        5000,
        [&](std::span<const float> samples) {
          for (std::size_t i = 0; i < samples.size(); ++i) out[i % 2].push_back(samples[i]);
        },
        {.block_frames = block});
    EXPECT_EQ(apart.out, out) << block;
    EXPECT_EQ(apart.result.latency_frames, 128);
  }
}

TEST(Isolation, LeavesNoProcessBehind) {
  const auto children = [] {
    std::size_t count = 0;
    for (const auto& entry : std::filesystem::directory_iterator("/proc/self/task/")) {
      std::ifstream file(entry.path() / "children");
      for (std::string pid; file >> pid;) ++count;
    }
    return count;
  };
  const std::size_t before = children();
  (void)report("crashes");
  (void)report("hangs", 0.2);
  (void)feed({"lv2:urn:saltmarsh:tern"}, {noise(2000, 1)});
  EXPECT_EQ(children(), before);
}

}  // namespace
}  // namespace wavicon::isolated_test
