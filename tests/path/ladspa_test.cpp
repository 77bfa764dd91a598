// SPDX-License-Identifier: MIT
#include <cstdlib>

#include "path/feeding.hpp"
#include "path/ladspa_cache.hpp"
#include "path/schemes.hpp"

namespace wavicon::ladspa_test {
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

TEST_F(Ladspa, ACacheThatDoesNotParseIsThrownAway) {
  std::filesystem::create_directories(cache_.path() / "wavicon");
  const std::string good = [&] {
    (void)list_units();
    return read_text(cache_.file("wavicon/ladspa"));
  }();
  ASSERT_TRUE(path_detail::parse_ladspa_cache(good));
  for (const std::string& bad :
       {std::string("wavicon-ladspa 2\n\n"), std::string("\n"), std::string("wavicon-ladspa 1\nfile\tx\n"),
        good + "\n", good.substr(0, good.size() / 2), std::string(100, '\t'),
        std::string("wavicon-ladspa 2\nfile\tx\nport\t1\nend\n")}) {
    EXPECT_FALSE(path_detail::parse_ladspa_cache(bad)) << bad;
    write_text(cache_.file("wavicon/ladspa"), bad);
    EXPECT_EQ(open_unit(parse_unit(kLibrary + "gain"), kSearch)->info().title, "A gain");
    EXPECT_TRUE(path_detail::parse_ladspa_cache(read_text(cache_.file("wavicon/ladspa"))));
  }
}

TEST_F(Ladspa, AFailureIsTriedAgainWhenWhatItHungOnChanges) {
  const path_detail::LadspaFailure failure{"it hangs", 1000000, 10, "list 1"};
  EXPECT_TRUE(path_detail::still_stands(failure, 1000000 + 3600, 10, "list 1"));
  EXPECT_FALSE(path_detail::still_stands(failure, 1000000 + 3600, 10, "list 2"));  // a library was installed
  EXPECT_FALSE(path_detail::still_stands(failure, 1000000 + 3600, 20, "list 1"));  // more patience
  EXPECT_FALSE(path_detail::still_stands(failure, 1000000 + 24 * 3600, 10, "list 1"));  // a day
  EXPECT_FALSE(path_detail::still_stands(failure, 999999, 10, "list 1"));  // the clock was put back
  // A library that lacks another one, which comes later: asked again because the search path changed.
  const TemporaryFolder folder;
  write_text(folder.file("mud.so"), "no library");
  const std::string mud = "ladspa:" + folder.file("mud.so") + ":x";
  const auto refused = [&] {
    return message_of(ErrorCode::unit_failed, [&] { (void)open_unit(parse_unit(mud), kSearch); });
  };
  const std::string first = refused();
  EXPECT_HAS(first, "cannot be loaded");
  EXPECT_EQ(refused(), first);
  EXPECT_HAS(read_text(cache_.file("wavicon/ladspa")), "failed\t");
  std::filesystem::copy_file(std::string(WAVICON_TEST_LADSPA) + "/wavicon_test.so", folder.file("mud.so"),
                             std::filesystem::copy_options::overwrite_existing);
  EXPECT_EQ(open_unit(parse_unit("ladspa:" + folder.file("mud.so") + ":gain"), kSearch)->info().title,
            "A gain");
}

TEST_F(Ladspa, RangesThatAreNoneAreMadeSome) {
  std::vector<std::string> remarks;
  SettingInfo setting{.symbol = "x", .minimum = NAN, .maximum = INFINITY, .default_value = NAN};
  path_detail::put_range_right(setting, remarks);
  path_detail::put_default_right(setting, remarks);
  EXPECT_TRUE(std::isfinite(setting.minimum) && std::isfinite(setting.maximum));
  EXPECT_EQ(setting.default_value, 0);
  EXPECT_EQ(remarks.size(), 2U);
  SettingInfo turned{.symbol = "y", .minimum = 3, .maximum = -3, .default_value = 1};
  path_detail::put_range_right(turned, remarks);
  EXPECT_EQ(turned.minimum, -3);
  EXPECT_EQ(remarks.size(), 3U);
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
}  // namespace wavicon::ladspa_test
