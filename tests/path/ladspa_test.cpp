// SPDX-License-Identifier: MIT
#include <cstdlib>

#include "path/feeding.hpp"

namespace wavicon {
namespace {

using namespace testing;

const std::string kLibrary = std::string("ladspa:") + WAVICON_TEST_LADSPA + "/wavicon_test.so:";

class Ladspa : public ::testing::Test {
 protected:
  void SetUp() override {
    ::setenv("LADSPA_PATH", WAVICON_TEST_LADSPA, 1);
    ::setenv("XDG_CACHE_HOME", cache_.path().c_str(), 1);
  }
  TemporaryFolder cache_;
};

TEST_F(Ladspa, HintsBecomeRangesAndDefaults) {
  UnitSearch search = kSearch;
  search.sample_rate_hz = 96000;
  const auto unit = open_unit(parse_unit(kLibrary + "gain"), search);
  const UnitInfo& info = unit->info();
  EXPECT_EQ(info.title, "A gain");
  EXPECT_EQ(info.input_count, 1);
  ASSERT_EQ(info.settings.size(), 4U);
  EXPECT_EQ(info.settings[0].symbol, "gain");
  EXPECT_EQ(info.settings[0].default_value, 1);
  EXPECT_EQ(info.settings[1].symbol, "corner");
  EXPECT_EQ(info.settings[1].unit, "Hz");
  EXPECT_NEAR(info.settings[1].maximum, 48000, 0.1);
  EXPECT_TRUE(info.settings[1].logarithmic);
  EXPECT_NEAR(info.settings[1].default_value, std::sqrt(96.0 * 48000), 0.5);
  EXPECT_TRUE(info.settings[2].toggle);
  EXPECT_TRUE(info.settings[3].integer);
}

TEST_F(Ladspa, IsFedOnEveryChannelAndItsLatencyTakenOff) {
  const Channels in = {noise(3000, 1), noise(3000, 2)};
  const auto fed = feed({kLibrary + "gain?gain=2", kLibrary + "late"}, in, {.block_frames = 100});
  EXPECT_EQ(fed.result.latency_frames, 64);
  for (std::size_t c = 0; c < 2; ++c)
    for (std::size_t n = 0; n < 3000; ++n) ASSERT_EQ(fed.out[c][n], 2 * in[c][n]) << n;
  EXPECT_EQ(feed({"ladspa:wavicon_test:gain?on=0"}, {in[0]}).out[0][5], 0.0F);
}

TEST_F(Ladspa, IsListedFromTheCacheTheSecondTime) {
  for (int pass = 0; pass < 2; ++pass) {
    std::vector<std::string> names;
    std::string refused;
    for (const UnitListing& unit : list_units())
      if (unit.name.rfind("ladspa:", 0) == 0) {
        names.push_back(unit.name);
        refused += unit.refused;
      }
    EXPECT_EQ(names, (std::vector<std::string>{"ladspa:wavicon_test:deaf", "ladspa:wavicon_test:gain",
                                               "ladspa:wavicon_test:late"}));
    EXPECT_EQ(refused, "it has no audio output");
    EXPECT_NE(read_text(cache_.file("wavicon/ladspa")).find("A delay of 64 samples"), std::string::npos);
  }
}

TEST_F(Ladspa, WhatIsNotThereIsAnswered) {
  const auto refused = [](ErrorCode code, const std::string& unit) {
    return message_of(code, [&] { (void)feed({unit}, {noise(100, 1)}); });
  };
  EXPECT_NE(refused(ErrorCode::bad_argument, kLibrary + "gian").find("did you mean 'gain'"),
            std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_argument, "ladspa:wavicon_tset:gain").find("did you mean 'wavicon_test'"),
            std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_argument, kLibrary + "gain?gain=9").find("it takes 0 to 4"),
            std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_argument, "ladspa:wavicon_test").find("holds 3 plugins"),
            std::string::npos);
  EXPECT_NE(refused(ErrorCode::unit_failed, kLibrary + "deaf").find("no audio output"), std::string::npos);
  EXPECT_NE(refused(ErrorCode::unit_failed, std::string("ladspa:") + WAVICON_HOSTILE_BUNDLE + "/hostile.so:x")
                .find("no LADSPA library"),
            std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_argument, "ladspa:/nowhere/x.so:y").find("no such file"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon
