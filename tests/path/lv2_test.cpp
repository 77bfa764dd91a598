// SPDX-License-Identifier: MIT
#include <unistd.h>

#include <filesystem>
#include <fstream>

#include "path/feeding.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::lv2_test {
namespace {

using namespace testing;
namespace fs = std::filesystem;

const std::string kTestBundle = std::string("lv2:") + WAVICON_TEST_BUNDLES + "/test.lv2:";

TEST(Tern, PluginAndStandInGiveTheSameSamples) {
  const Channels in = {noise(5000, 3)};
  for (const char* settings :
       {"?drive=12", "?drive=31.7&asymmetry=0.3&output=-2.5", "?oversampling=4&drive=20", "?oversampling=16"})
    EXPECT_EQ(feed({std::string("sim:tern") + settings}, in).out,
              feed({std::string("lv2:urn:saltmarsh:tern") + settings}, in).out)
        << settings;
}

TEST(Chain, ReportedLatencyIsTakenOff) {
  const Channels in = {noise(3000, 4)};
  const auto fed = feed({kTestBundle + "late", kTestBundle + "late"}, in, {.block_frames = 64});
  EXPECT_EQ(fed.result.latency_frames, 200);
  EXPECT_EQ(fed.out, in);
  const auto kept = feed({kTestBundle + "late"}, in, {.keep_latency = true});
  ASSERT_EQ(kept.out[0].size(), 3100U);
  EXPECT_TRUE(std::equal(in[0].begin(), in[0].end(), kept.out[0].begin() + 100));
  const auto tail = feed({kTestBundle + "late"}, in, {.tail_frames = 50});
  ASSERT_EQ(tail.out[0].size(), 3050U);
  EXPECT_EQ(tail.out[0].back(), 0.0F);
  EXPECT_FALSE(fed.result.latency_changed);
  EXPECT_TRUE(feed({kTestBundle + "moody"}, in).result.latency_changed);
}

TEST(Chain, EveryShapeOfPluginIsFed) {
  const Channels mono = {noise(1000, 5)}, stereo = {noise(1000, 6), noise(1000, 7)};
  auto negated = mono[0];
  for (float& x : negated) x = -x;
  EXPECT_EQ(feed({kTestBundle + "mono-to-stereo"}, mono).out, (Channels{mono[0], negated}));
  EXPECT_EQ(feed({kTestBundle + "swaps"}, stereo).out, (Channels{stereo[1], stereo[0]}));
  EXPECT_EQ(feed({kTestBundle + "swaps"}, mono).out, (Channels{mono[0], mono[0]}));
  auto doubled = mono[0];
  for (float& x : doubled) x *= 2;
  EXPECT_EQ(feed({kTestBundle + "stereo-to-mono"}, mono).out, Channels{doubled});
  EXPECT_EQ(feed({kTestBundle + "mono-to-stereo", kTestBundle + "swaps"}, mono).out,
            (Channels{negated, mono[0]}));
  EXPECT_EQ(feed({"lv2:urn:saltmarsh:tern?drive=6"}, stereo).out[1],
            feed({"lv2:urn:saltmarsh:tern?drive=6"}, {stereo[1]}).out[0]);
  const auto text =
      message_of(ErrorCode::bad_argument, [&] { feed({kTestBundle + "mono-to-stereo"}, stereo); });
  EXPECT_NE(text.find("takes 1 channel and gives 2; the signal has 2"), std::string::npos) << text;
}

TEST(Chain, WorkIsDoneAndAnswered) {
  const Channels in = {noise(1500, 8)};
  const auto out = feed({kTestBundle + "asks-for-work"}, in, {.block_frames = 256}).out[0];
  for (std::size_t n = 256; n < 1500; ++n) ASSERT_EQ(out[n], 2 * in[0][n]) << n;
}

TEST(Chain, PeaksAreThoseOfStimulusAndCapture) {
  Channels in = {{0.1F, -0.5F, 0.25F}, {0.0F, 0.0F, 0.75F}};
  const auto fed = feed({kTestBundle + "panel?gain=-20"}, in);
  EXPECT_EQ(fed.result.peak_in, 0.75);
  EXPECT_NEAR(fed.result.peak_out, 0.075, 1e-7);
}

TEST(Chain, WhatIsNoNumberIsReportedWithItsPlace) {
  const auto text =
      message_of(ErrorCode::unit_failed, [] { feed({kTestBundle + "writes-nan"}, {noise(5000, 9)}); });
  EXPECT_NE(text.find("writes-nan wrote not-a-number into channel 1 at frame 1000 (0.020833 s"),
            std::string::npos)
      << text;
  std::vector<float> broken(100, 0.0F);
  broken[7] = INFINITY;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { feed({"sim:tern"}, {broken}); }).find("stimulus"),
            std::string::npos);
}

TEST(Plugin, FaultsAreNamed) {
  auto failed = [](const std::string& name) {
    return message_of(ErrorCode::unit_failed, [&] { feed({name}, {noise(10, 1)}); });
  };
  EXPECT_NE(failed(kTestBundle + "refuses-to-start").find("refused to start at 48000 Hz"), std::string::npos);
  EXPECT_NE(failed(kTestBundle + "needs-the-moon").find("requires urn:wavicon-test:moon"), std::string::npos);
  const auto gone = failed(std::string("lv2:") + WAVICON_TEST_BUNDLES + "/no-binary.lv2");
  EXPECT_NE(gone.find("cannot be loaded"), std::string::npos) << gone;
  EXPECT_NE(gone.find("gone.so"), std::string::npos) << gone;
}

TEST(Plugin, SettingsAreReadFromItsData) {
  const auto unit = open_unit(parse_unit(kTestBundle + "panel"));
  const UnitInfo& info = unit->info();
  EXPECT_EQ(info.title, "A panel of settings");
  EXPECT_EQ(info.input_count, 1) << "a side chain is no input of the signal";
  ASSERT_EQ(info.settings.size(), 5U);
  EXPECT_EQ(info.settings[0].unit, "dB");
  EXPECT_EQ(info.settings[0].minimum, -60);
  EXPECT_TRUE(info.settings[1].toggle);
  EXPECT_EQ(info.settings[1].default_value, 1);
  EXPECT_TRUE(info.settings[2].choices_only);
  EXPECT_EQ(info.settings[2].choices[1].label, "hard");
  EXPECT_EQ(info.settings[3].maximum, 24000);
  EXPECT_TRUE(info.settings[3].logarithmic);
  EXPECT_TRUE(info.settings[4].integer);
}

TEST(Plugin, ChoicesAreSetByLabelOrValue) {
  const Channels silence = {std::vector<float>(10)};
  EXPECT_EQ(feed({kTestBundle + "panel?mode=hard"}, silence).out[0][5], 2.0F);
  EXPECT_EQ(feed({kTestBundle + "panel?mode=2"}, silence).out[0][5], 2.0F);
  EXPECT_EQ(feed({kTestBundle + "panel?mode=2&on=0"}, silence).out[0][5], 0.0F);
}

TEST(Plugin, PresetsStatesAndBypassAreHeeded) {
  const Channels in = {noise(600, 8)};
  const std::string plugin = kTestBundle + "keeps-state";
  const auto expect = [&](const std::string& settings, float gain, float offset) {
    const auto out = feed({plugin + settings}, in).out[0];
    for (std::size_t n = 0; n < out.size(); n += 37)
      ASSERT_NEAR(out[n], gain * in[0][n] + offset, 1e-6) << settings << " at " << n;
  };
  expect("", 1, 0.125F);  // its own default state, and switched on
  expect("?gain=0.25", 0.25F, 0.125F);
  expect("?preset=Soft", 0.5F, 0);
  expect("?preset=Soft&gain=0.75", 0.75F, 0);
  expect("?preset=urn:wavicon-test:shifted", 2, 0.25F);  // 7 is above its range
  expect("?bypass=1&gain=0.5", 1, 0);
  expect("?bypass=0&gain=0.5", 0.5F, 0.125F);
  expect("?active=0", 1, 0);

  const TemporaryFolder folder;
  const std::string text =
      "@prefix lv2: <http://lv2plug.in/ns/lv2core#> .\n@prefix pset: <http://lv2plug.in/ns/ext/presets#> .\n"
      "@prefix state: <http://lv2plug.in/ns/ext/state#> .\n"
      "<> a pset:Preset ; lv2:appliesTo <urn:wavicon-test:keeps-state> ;\n"
      "lv2:port [ lv2:symbol \"gain\" ; pset:value 1.5 ] ; state:state [ <urn:wavicon-test:offset> -0.5 ] "
      ".\n";
  write_text(folder.file("state.ttl"), text);
  expect("?state=" + folder.path().string(), 1.5F, -0.5F);
  expect("?state=" + folder.file("state.ttl") + "&gain=1", 1, -0.5F);

  const auto info = open_unit(parse_unit(plugin + "?preset=Soft"))->info();
  EXPECT_EQ(info.presets, (std::vector<std::string>{"Shifted up", "Soft"}));
  EXPECT_EQ(info.enabled_setting, "active");
  EXPECT_TRUE(info.takes_state);
  EXPECT_EQ(info.settings[0].default_value, 0.5) << "of the preset";

  const auto problem = [&](const std::string& settings) {
    return message_of(ErrorCode::bad_argument, [&] { (void)open_unit(parse_unit(settings)); });
  };
  EXPECT_HAS(problem(plugin + "?preset=Sofd"), "did you mean 'Soft'");
  EXPECT_HAS(problem(plugin + "?preset=Soft&state=x"), "one preset or one state");
  EXPECT_HAS(problem(plugin + "?state=" + folder.file("none.ttl")), "no such file");
  EXPECT_HAS(problem(plugin + "?bypass=2"), "not 0 or 1");
  EXPECT_HAS(problem(plugin + "?bypass=1&active=1"), "given twice");
  EXPECT_HAS(problem(kTestBundle + "swaps?bypass=1"), "leave it out of the chain");
  EXPECT_HAS(problem(kTestBundle + "swaps?preset=x"), "has no presets");
  EXPECT_HAS(problem(kTestBundle + "swaps?state=" + folder.file("state.ttl")), "is a state of");
  write_text(folder.file("state.ttl"), "nothing");
  EXPECT_HAS(problem(plugin + "?state=" + folder.file("state.ttl")), "holds no saved state");
}

TEST(UnitSpec, IsReadAndRefused) {
  const UnitSpec spec = parse_unit("sim:tern?drive=12&oversampling=4");
  EXPECT_EQ(spec.scheme + " " + spec.name, "sim tern");
  ASSERT_EQ(spec.settings.size(), 2U);
  EXPECT_EQ(spec.settings[1].second, "4");
  EXPECT_EQ(parse_unit("lv2:http://example.org/a#b?x=1").name, "http://example.org/a#b");
  for (const char* text : {"", "tern", ":tern", "sim:", "sim:?drive=3", "sim:tern?drive", "sim:tern?=3",
                           "sim:tern?drive=", "sim:tern?"})
    EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)parse_unit(text); })
                  .find("for example sim:tern?drive=12"),
              std::string::npos)
        << text;
}

TEST(UnitSpec, UnknownNamesAndSettingsComeWithTheNearest) {
  auto refused = [](const std::string& text) {
    return message_of(ErrorCode::bad_argument, [&] { (void)open_unit(parse_unit(text), kSearch); });
  };
  EXPECT_NE(refused("smi:tern").find("did you mean 'sim'"), std::string::npos);
  EXPECT_NE(refused("sim:turn").find("did you mean 'tern'"), std::string::npos);
  EXPECT_NE(refused("sim:tern?drvie=3").find("did you mean 'drive'"), std::string::npos);
  EXPECT_NE(refused("sim:tern?drive=37").find("it takes 0 to 36 dB"), std::string::npos);
  EXPECT_NE(refused("sim:tern?drive=abc").find("drive=abc is not allowed"), std::string::npos);
  EXPECT_NE(refused("sim:tern?drive=nan").find("not allowed"), std::string::npos);
  EXPECT_NE(refused("sim:tern?oversampling=3").find("one of 1, 2, 4, 8, 16"), std::string::npos);
  EXPECT_NE(refused("sim:tern?drive=1&drive=2").find("given twice"), std::string::npos);
  EXPECT_NE(refused("lv2:urn:saltmarsh:turn").find("did you mean 'urn:saltmarsh:tern'"), std::string::npos);
  EXPECT_NE(refused("lv2:/nowhere/a.lv2").find("is no LV2 bundle"), std::string::npos);
  EXPECT_NE(refused(kTestBundle + "plate").find("did you mean 'late'"), std::string::npos);
  EXPECT_NE(refused(kTestBundle + "panel?mode=medium").find("one of 0 (soft), 2 (hard)"), std::string::npos);
  EXPECT_NE(
      refused(std::string("lv2:") + WAVICON_TEST_BUNDLES + "/test.lv2").find("holds 14 plugins; name one"),
      std::string::npos);
}

TEST(Lv2, ASideChainByItsGroupIsNoInputOfTheSignal) {
  const auto unit = open_unit(parse_unit(kTestBundle + "keyed"), kSearch);
  EXPECT_EQ(unit->info().input_count, 1);
  const Channels in = {noise(1000, 11)};
  EXPECT_EQ(feed({kTestBundle + "keyed"}, in).out, in);  // the key rests
}

TEST(Lv2, ADefaultOutsideItsRangeIsPutRightAndSaid) {
  const auto unit = open_unit(parse_unit(kTestBundle + "odd-default"), kSearch);
  EXPECT_EQ(unit->info().settings[0].default_value, 20);
  ASSERT_EQ(unit->info().remarks.size(), 1U);
  EXPECT_HAS(unit->info().remarks[0],
             "its default of drive, 30, is outside of its own range, 0 to 20; 20 is taken");
  const Channels in = {noise(1000, 12)};
  EXPECT_EQ(feed({kTestBundle + "odd-default"}, in).out[0][7], 20 * in[0][7]);
  // What breaks all the same is blamed on the plugin, with what was wrong in it; the one after it is not.
  const std::string message = message_of(ErrorCode::unit_failed, [&] {
    (void)feed({"sim:tern", kTestBundle + "odd-default?break=1", "sim:tern"}, in);
  });
  EXPECT_EQ(message.rfind(kTestBundle + "odd-default wrote not-a-number", 0), 0U) << message;
  EXPECT_HAS(message, "its default of drive, 30");
  EXPECT_TRUE(open_unit(parse_unit(kTestBundle + "panel"), kSearch)->info().remarks.empty());
}

TEST(Lv2, WhatTakesLongerThanItsAudioIsKnown) {
  const Channels in = {noise(4096, 13)};
  const auto slow = feed({kTestBundle + "slow"}, in);  // 8 blocks of 10.7 ms, 25 ms each
  EXPECT_GT(slow.result.run_s, 0.2);
  EXPECT_NEAR(slow.result.audio_s, 4096.0 / 48000, 1e-9);
}

TEST(Units, ListsStandInsAndOwnPlugins) {
  setenv("LV2_PATH", WAVICON_TEST_BUNDLES, 1);
  const auto list = list_units(kSearch);
  unsetenv("LV2_PATH");
  std::string all;
  for (const UnitListing& unit : list) all += unit.name + "|" + unit.refused + "\n";
  EXPECT_EQ(all.rfind("sim:tern|\nsim:sandpiper|\n", 0), 0U);
  EXPECT_NE(all.find("lv2:urn:saltmarsh:tern|\n"), std::string::npos);
  EXPECT_NE(all.find("lv2:urn:wavicon-test:needs-the-moon|it requires urn:wavicon-test:moon"),
            std::string::npos)
      << all;
}

// A folder of bundles and a cache of the test's own.
class Lv2Listing : public ::testing::Test {
 protected:
  void SetUp() override {
    fs::remove_all(folder_);
    fs::create_directories(folder_ / "lv2" / "named.lv2");
    write("manifest.ttl",
          std::string(kPrefixes) + "<urn:t:named> a lv2:Plugin ; rdfs:seeAlso <named.ttl> .\n");
    describe_as("One");
    setenv("LV2_PATH", (folder_ / "lv2").c_str(), 1);
    setenv("XDG_CACHE_HOME", (folder_ / "cache").c_str(), 1);
  }
  void TearDown() override {
    unsetenv("LV2_PATH");
    unsetenv("XDG_CACHE_HOME");
    fs::remove_all(folder_);
  }
  void write(const std::string& file, const std::string& text) const {
    std::ofstream(folder_ / "lv2" / "named.lv2" / file) << text;
  }
  void describe_as(const std::string& name) const {
    std::string text = kPrefixes;
    text += "<urn:t:named> a lv2:Plugin ; doap:name \"" + name +
            "\" ; lv2:port [ a lv2:AudioPort, lv2:InputPort ; "
            "lv2:index 0 ; lv2:symbol \"in\" ; lv2:name \"In\" ] , [ a lv2:AudioPort, lv2:OutputPort ; "
            "lv2:index 1 ; lv2:symbol \"out\" ; lv2:name \"Out\" ] .\n";
    write("named.ttl", text);
  }
  static std::string titles() {
    std::string text;
    for (const UnitListing& unit : list_units())
      if (unit.name.rfind("lv2:", 0) == 0)
        text += unit.name + "=" + unit.title + " " + std::to_string(unit.input_count) + ";";
    return text;
  }
  [[nodiscard]] fs::path cache() const { return folder_ / "cache" / "wavicon" / "lv2"; }

  static constexpr const char* kPrefixes =
      "@prefix lv2: <http://lv2plug.in/ns/lv2core#> .\n@prefix doap: <http://usefulinc.com/ns/doap#> .\n"
      "@prefix rdfs: <http://www.w3.org/2000/01/rdf-schema#> .\n";
  fs::path folder_ = fs::temp_directory_path() / ("wavicon-lv2-listing-" + std::to_string(::getpid()));
};

TEST_F(Lv2Listing, IsKeptUntilABundleChanges) {
  EXPECT_EQ(titles(), "lv2:urn:t:named=One 1;");
  ASSERT_TRUE(fs::exists(cache()));
  // What is listed the second time is what was kept.
  std::ifstream in(cache());
  std::string text((std::istreambuf_iterator<char>(in)), {});
  const auto at = text.find("\tOne\t");
  ASSERT_NE(at, std::string::npos);
  std::ofstream(cache()) << text.replace(at, 5, "\tTwo\t");
  EXPECT_EQ(titles(), "lv2:urn:t:named=Two 1;");
  describe_as("Three of another length");
  EXPECT_EQ(titles(), "lv2:urn:t:named=Three of another length 1;");
  EXPECT_EQ(titles(), "lv2:urn:t:named=Three of another length 1;");
  fs::copy(folder_ / "lv2" / "named.lv2", folder_ / "lv2" / "more.lv2");
  EXPECT_EQ(titles(), "lv2:urn:t:named=Three of another length 1;") << "one URI in two bundles is one plugin";
  fs::remove_all(folder_ / "lv2" / "more.lv2");
  fs::remove_all(folder_ / "lv2" / "named.lv2");
  EXPECT_EQ(titles(), "");
}

TEST_F(Lv2Listing, ADamagedCacheIsReadAgain) {
  const std::string right = titles();
  std::ifstream in(cache());
  const std::string text((std::istreambuf_iterator<char>(in)), {});
  in.close();
  for (std::size_t length = 0; length < text.size(); length += 7) {
    std::ofstream(cache(), std::ios::trunc) << text.substr(0, length);
    ASSERT_EQ(titles(), right) << length;
  }
  std::ofstream(cache(), std::ios::trunc) << "wavicon-lv2 1\t0.0.0" << text.substr(text.find('\n'));
  EXPECT_EQ(titles(), right) << "of another version";
  fs::remove(cache());
  fs::create_directories(cache());  // in its place a folder: it cannot be kept
  EXPECT_EQ(titles(), right);
}

TEST_F(Lv2Listing, WhatLilvSaysOfAFaultyBundleIsNotOurs) {
  fs::create_directories(folder_ / "lv2" / "broken.lv2");
  std::ofstream(folder_ / "lv2" / "broken.lv2" / "manifest.ttl") << "this is << no turtle";
  ::testing::internal::CaptureStderr();
  EXPECT_EQ(titles(), "lv2:urn:t:named=One 1;");
  EXPECT_EQ(::testing::internal::GetCapturedStderr(), "");
}

}  // namespace
}  // namespace wavicon::lv2_test
