#include "wavicon/path/chain.hpp"

#include <complex>

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace wavicon {
namespace {

using testing::message_of;

const std::string kTestBundle = std::string("lv2:") + WAVICON_TEST_BUNDLES + "/test.lv2:";

// Channels, each a run of samples.
using Channels = std::vector<std::vector<float>>;

struct Fed {
  Channels out;
  FeedResult result;
};

Fed feed(const std::vector<std::string>& names, const Channels& in, FeedOptions options = {},
         double rate = 48000) {
  std::vector<std::unique_ptr<Unit>> units;
  for (const std::string& name : names) units.push_back(open_unit(parse_unit(name), {{WAVICON_BUNDLES}}));
  Chain chain(std::move(units));
  Fed fed;
  fed.out.resize(
      static_cast<std::size_t>(chain.prepare(rate, static_cast<int>(in.size()), options.block_frames)));
  std::size_t at = 0;
  fed.result = chain.feed(
      [&](std::span<float> block) {
        for (std::size_t i = 0; i < block.size(); ++i) block[i] = in[i % in.size()][at + i / in.size()];
        at += block.size() / in.size();
        return static_cast<std::int64_t>(block.size() / in.size());
      },
      static_cast<std::int64_t>(in[0].size()),
      [&](std::span<const float> block) {
        for (std::size_t i = 0; i < block.size(); ++i) fed.out[i % fed.out.size()].push_back(block[i]);
      },
      options);
  return fed;
}

std::vector<float> tone(double hz, double level_dbfs, std::size_t frames, double rate = 48000) {
  std::vector<double> x(frames);
  render({.sample_rate_hz = rate,
          .frequency_hz = hz,
          .level_dbfs = level_dbfs,
          .seconds = static_cast<double>(frames) / rate},
         0, x);
  return {x.begin(), x.end()};
}

std::vector<float> noise(std::size_t frames, std::uint64_t seed) {
  std::vector<float> x(frames);
  for (std::size_t n = 0; n < frames; ++n) x[n] = static_cast<float>(random_triangular(seed, 0, n));
  return x;
}

double amplitude_at(const std::vector<float>& x, double hz, double rate = 48000) {
  const std::vector<double> y(x.begin(), x.end());
  return 2 * std::abs(tone_sum(y, phase_step(hz, rate))) / static_cast<double>(y.size());
}

TEST(Tern, HarmonicsAgreeWithTheClosedForm) {
  // y = arctan(gx)/g of x = A sin t holds order k (odd) with 2·r^k/(k·g), r = (sqrt(1+(gA)²)-1)/(gA). 997 Hz
  // has 997 cycles in the second: orders fold onto each other only from the 47003rd on.
  constexpr double kFloatRounding = 1e-9;
  for (const double drive : {0.0, 12.0, 24.0, 36.0})
    for (const double level : {-30.0, -13.5, 0.0}) {
      const auto out = feed({"sim:tern?drive=" + std::to_string(drive)}, {tone(997, level, 48000)}).out[0];
      const double g = ratio_from_db(drive - 12), ga = g * ratio_from_db(level),
                   r = (std::sqrt(1 + ga * ga) - 1) / ga;
      for (int k = 1; k <= 31; ++k)
        EXPECT_NEAR(amplitude_at(out, 997.0 * k), k % 2 == 1 ? 2 * std::pow(r, k) / (k * g) : 0.0,
                    kFloatRounding)
            << "order " << k << " drive " << drive << " level " << level;
    }
}

TEST(Tern, SmallSignalsPassAtUnityWithADcErrorWhenAsymmetric) {
  for (const double asymmetry : {0.0, 0.5, 1.0}) {
    const auto out =
        feed({"sim:tern?drive=12&asymmetry=" + std::to_string(asymmetry)}, {tone(1000, -80, 48000)}).out[0];
    EXPECT_NEAR(amplitude_at(out, 1000), 1e-4, 1e-9);
    double mean = 0;
    for (const float x : out) mean += x / 48000.0;
    EXPECT_NEAR(mean, 0.01 * std::atan(asymmetry) * (1 + asymmetry * asymmetry), 2e-8);
  }
  const auto trimmed = feed({"sim:tern?output=-6"}, {tone(1000, -80, 48000)}).out[0];
  EXPECT_NEAR(amplitude_at(trimmed, 1000), 1e-4 * ratio_from_db(-6), 1e-9);
}

TEST(Tern, OversamplingPassesTheBandAndStopsTheFold) {
  for (const int factor : {2, 4, 8, 16}) {
    const std::string unit = "sim:tern?oversampling=" + std::to_string(factor);
    for (const double hz : {100.0, 10000.0, 21000.0}) {
      auto out = feed({unit}, {tone(hz, -80, 48000)}).out[0];
      out.erase(out.begin(), out.begin() + 24000);
      EXPECT_NEAR(db_from_ratio(amplitude_at(out, hz) / 1e-4), 0, 0.001) << factor << "x at " << hz;
    }
    // 9 kHz at full drive: order 3 lies at 27 kHz and folds to 21 kHz unless it is stopped.
    auto clean = feed({unit + "&drive=24"}, {tone(9000, -20, 48000)}).out[0];
    auto naive = feed({"sim:tern?drive=24"}, {tone(9000, -20, 48000)}).out[0];
    clean.erase(clean.begin(), clean.begin() + 24000);
    EXPECT_GT(db_from_ratio(amplitude_at(naive, 21000) / amplitude_at(clean, 21000)), factor == 2 ? 25 : 60)
        << factor;
  }
}

TEST(Tern, PluginAndStandInGiveTheSameSamples) {
  const Channels in = {noise(5000, 3)};
  for (const char* settings :
       {"?drive=12", "?drive=31.7&asymmetry=0.3&output=-2.5", "?oversampling=4&drive=20", "?oversampling=16"})
    EXPECT_EQ(feed({std::string("sim:tern") + settings}, in).out,
              feed({std::string("lv2:urn:saltmarsh:tern") + settings}, in).out)
        << settings;
}

TEST(Chain, ResultDoesNotDependOnTheBlockLength) {
  const Channels in = {noise(4000, 1), noise(4000, 2)};
  const auto expected =
      feed({"sim:tern?drive=20&oversampling=2", "sim:tern?asymmetry=0.2"}, in, {.block_frames = 512}).out;
  for (const int block : {1, 64, 1000, 65536})
    EXPECT_EQ(
        feed({"sim:tern?drive=20&oversampling=2", "sim:tern?asymmetry=0.2"}, in, {.block_frames = block}).out,
        expected)
        << block;
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

TEST(Chain, SixtyFourChannelsAtTheHighestRate) {
  Channels in(64, std::vector<float>(2000));
  for (std::size_t c = 0; c < 64; ++c) in[c] = noise(2000, c);
  const auto out = feed({"sim:tern?drive=3"}, in, {}, 768000).out;
  EXPECT_EQ(out[63], feed({"sim:tern?drive=3"}, {in[63]}, {}, 768000).out[0]);
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

TEST(Chain, RefusesBlocksOutOfRange) {
  for (const int block : {0, -1, 65537})
    EXPECT_NE(message_of(ErrorCode::bad_argument,
                         [&] { feed({"sim:tern"}, {noise(10, 1)}, {.block_frames = block}); })
                  .find("65536"),
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
    return message_of(ErrorCode::bad_argument,
                      [&] { (void)open_unit(parse_unit(text), {{WAVICON_BUNDLES}}); });
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
      refused(std::string("lv2:") + WAVICON_TEST_BUNDLES + "/test.lv2").find("holds 10 plugins; name one"),
      std::string::npos);
}

TEST(Units, ListsStandInsAndOwnPlugins) {
  setenv("LV2_PATH", WAVICON_TEST_BUNDLES, 1);
  const auto list = list_units({{WAVICON_BUNDLES}});
  unsetenv("LV2_PATH");
  std::string all;
  for (const UnitListing& unit : list) all += unit.name + "|" + unit.refused + "\n";
  EXPECT_EQ(all.rfind("sim:tern|\n", 0), 0U);
  EXPECT_NE(all.find("lv2:urn:saltmarsh:tern|\n"), std::string::npos);
  EXPECT_NE(all.find("lv2:urn:wavicon-test:needs-the-moon|it requires urn:wavicon-test:moon"),
            std::string::npos)
      << all;
}

}  // namespace
}  // namespace wavicon
