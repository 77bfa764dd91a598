// SPDX-License-Identifier: MIT
#include "wavicon/measure/aliasing/aliasing.hpp"

#include <complex>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "measure/repetitions.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::aliasing_test {
namespace {

using namespace testing;

constexpr double kWorstDb = 0.05;
constexpr double kFloorDbc = -140;  // 24 bits

Recipe sweep_recipe(double rate, double seconds = 4) {
  Recipe recipe{.sample_rate_hz = rate};
  recipe.parts.push_back(
      {.name = "sweep",
       .kind = Sweep{.from_hz = 100, .to_hz = 0.458 * rate, .seconds = seconds, .level_dbfs = -1}});
  return recipe;
}

template <typename Device>
Audio through(Stimulus& stimulus, const Device& device, SampleFormat format = SampleFormat::float64) {
  Audio audio(stimulus.recipe().sample_rate_hz, 1, stimulus.frames());
  stimulus.render(0, 0, audio.channel(0));
  const Quantiser quantiser(format, is_integer(format), 7);
  for (std::int64_t n = 0; n < audio.frames(); ++n) {
    double& x = audio.channel(0)[static_cast<std::size_t>(n)];
    x = quantiser.value(device(x), 0, n);
  }
  return audio;
}

AliasingResult measured(const Audio& audio, Stimulus& stimulus, const AliasingOptions& options = {},
                        SampleFormat format = SampleFormat::float64) {
  const auto takes = locate(audio, stimulus);
  EXPECT_FALSE(takes.empty());
  MemorySource source(audio);
  return measure_aliasing(played(source, stimulus, takes.at(0), format), 0, options);
}

// Fourier amplitudes of a memoryless device for a sine of peak A, on a grid that holds them exactly.
template <typename Device>
std::vector<double> orders_of(const Device& device, double peak) {
  constexpr int kGrid = 4096;
  std::vector<double> amplitudes;
  for (int k = 0; k <= 40; ++k) {
    std::complex<double> sum = 0;
    for (int n = 0; n < kGrid; ++n)
      sum += device(peak * std::sin(2 * M_PI * n / kGrid)) * std::polar(1.0, -2 * M_PI * k * n / kGrid);
    amplitudes.push_back(std::abs(sum) * 2 / kGrid);
  }
  return amplitudes;
}

TEST(Aliasing, EveryFoldedOrderOfAMemorylessDeviceIsRead) {
  for (const double rate : {44100.0, 48000.0}) {
    Stimulus stimulus(sweep_recipe(rate));
    auto check = [&](auto device) {
      const auto truth = orders_of(device, ratio_from_db(-1));
      const auto result = measured(through(stimulus, device), stimulus);
      const auto& folded = result.channels[0].folded;
      ASSERT_FALSE(folded.empty());
      int strongest = 2;
      for (int k = 2; k <= 40; ++k)
        if (truth[static_cast<std::size_t>(k)] > truth[static_cast<std::size_t>(strongest)]) strongest = k;
      EXPECT_EQ(folded[0].order, strongest);
      for (const FoldedOrder& order : folded) {
        const double expected =
            db_from_ratio(truth[static_cast<std::size_t>(order.order)] / truth[1] + 1e-20);
        if (expected < -130) continue;
        EXPECT_NEAR(db_from_ratio(order.ratio), expected, kWorstDb) << rate << " order " << order.order;
        EXPECT_NEAR(order.hz,
                    std::abs(order.order * order.at_hz - rate * std::round(order.order * order.at_hz / rate)),
                    1e-6);
        EXPECT_GT(order.order * order.at_hz, rate / 2);
      }
      EXPECT_NEAR(db_from_ratio(result.channels[0].harmonic.ratio),
                  db_from_ratio(truth[static_cast<std::size_t>(strongest)] / truth[1]), kWorstDb);
    };
    check([](double x) { return x + 0.1 * x * x - 0.2 * x * x * x + 0.05 * std::pow(x, 5); });
    check([](double x) { return std::tanh(2 * x) / 2; });
  }
}

TEST(Aliasing, ACleanSweepReadsNothingAndSaysWhatItCouldHaveSeen) {
  for (const auto format : {SampleFormat::float64, SampleFormat::pcm24}) {
    Stimulus stimulus(sweep_recipe(48000));
    const auto result = measured(through(
                                     stimulus, [](double x) { return x; }, format),
                                 stimulus, {}, format);
    EXPECT_LT(db_from_ratio(result.channels[0].folded[0].ratio),
              format == SampleFormat::float64 ? -220 : kFloorDbc);
    EXPECT_LT(db_from_ratio(result.floor_ratio), format == SampleFormat::float64 ? -220 : kFloorDbc);
    const Sheet sheet = aliasing_sheet(result, {});
    EXPECT_TRUE(find_reading(sheet, "worst_alias_dbc", 0)->bound);
    EXPECT_EQ(find_reading(sheet, "worst_alias_order", 0), nullptr) << "no order is made up";
    EXPECT_NE(sheet.findings[0].text.find("nothing folds back "), std::string::npos);
  }
}

TEST(Aliasing, LateInvertedAndQuieterIsTheSame) {
  Stimulus stimulus(sweep_recipe(48000));
  auto device = [](double x) { return x - 0.1 * x * x * x; };
  const Audio plain = through(stimulus, device);
  Audio late(48000, 2, plain.frames() + 9000);
  for (std::int64_t n = 0; n < plain.frames(); ++n)
    late.channel(1)[static_cast<std::size_t>(n) + 4321] =
        -0.01 * std::as_const(plain).channel(0)[static_cast<std::size_t>(n)];
  const auto a = measured(plain, stimulus), b = measured(late, stimulus);
  EXPECT_FALSE(b.channels[0].measured);
  ASSERT_TRUE(b.channels[1].measured);
  EXPECT_EQ(a.channels[0].folded[0].order, 3);
  EXPECT_EQ(b.channels[1].folded[0].order, 3);
  EXPECT_NEAR(db_from_ratio(b.channels[1].folded[0].ratio / a.channels[0].folded[0].ratio), 0, 0.01);
  EXPECT_NEAR(b.channels[1].delay_samples, 0, 0.05);
}

TEST(Aliasing, HardCornersAreSaid) {
  Stimulus stimulus(sweep_recipe(48000));
  const auto result =
      measured(through(stimulus, [](double x) { return std::clamp(x, -0.3, 0.3); }), stimulus);
  EXPECT_EQ(result.channels[0].folded[0].order, 3);
  std::string text;
  for (const auto& finding : aliasing_sheet(result, {}).findings) text += finding.text;
  EXPECT_NE(text.find("explained by no order up to 40"), std::string::npos) << text;
  EXPECT_NE(text.find("threshold of hearing"), std::string::npos);
}

// What a linear unit does to a sweep is no product: steep filters, echoes, phase.
TEST(Aliasing, LinearUnitsNameNoOrder) {
  Stimulus stimulus(sweep_recipe(48000));
  Audio played_audio(48000, 1, stimulus.frames());
  stimulus.render(0, 0, played_audio.channel(0));
  const Signal x(played_audio.channel(0).begin(), played_audio.channel(0).end());
  const auto turned = [](const Signal& from, double hz, double q) {  // an all-pass
    const Section f = low_cut(hz, q, 48000);
    return filtered(from, {f.a2, f.a1, 1, f.a1, f.a2});
  };
  Signal steep = x;
  for (const double q : {0.51, 0.60, 0.90, 2.56}) {
    Section f = low_cut(24000 - 9000, q, 48000);  // turned over: a low-pass at 9 kHz
    f.b1 = -f.b1;
    f.a1 = -f.a1;
    steep = filtered(steep, f);
  }
  std::vector<std::pair<std::string, Signal>> units = {
      {"gain", scaled(x, 0.3)},
      {"low-pass", steep},
      {"bell", filtered(x, bell(3000, 12, 12, 48000))},
      {"low cut", filtered(x, low_cut(80, 0.7, 48000))},
      {"all-pass", turned(turned(x, 1500, 6), 4000, 3)},
      {"echo", added(x, scaled(moved(x, 1234), 0.5))},
      {"comb", added(x, scaled(moved(x, 150), -0.7))},
  };
  for (auto& [name, y] : units)
    for (const double noise_dbfs : {-200.0, -95.0}) {
      const Audio audio = audio_of(added(y, noise(y.size(), noise_dbfs, 3)), 48000);
      MemorySource source(audio);
      const auto result = measure_aliasing(played(source, stimulus, Take{}), 0);
      for (const FoldedOrder& order : result.channels[0].folded)
        EXPECT_TRUE(order.bound || order.ratio < 4 * result.floor_ratio)
            << name << ", noise " << noise_dbfs << ": order " << order.order << " at "
            << db_from_ratio(order.ratio) << " dBc, sweep at " << order.at_hz;
      const Sheet sheet = aliasing_sheet(result, {});
      EXPECT_EQ(find_reading(sheet, "worst_alias_order", 0), nullptr) << name;
      std::string text;
      for (const Finding& finding : sheet.findings) text += finding.text;
      EXPECT_EQ(text.find("40 dB below its highest") != std::string::npos, name == "low-pass")
          << name << text;
    }
}

// Products beside noise are within their uncertainty, and the frames reach to 10 ms before the sweep's end.
TEST(Aliasing, AProductIsAsSureAsItSays) {
  Stimulus stimulus(sweep_recipe(48000, 2));
  const auto device = [](double x) { return x + 0.01 * x * x * x; };
  const auto truth = orders_of(device, ratio_from_db(-1));
  int within = 0;
  const int count = repetitions(20);
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(count); ++seed) {
    Audio audio = through(stimulus, device);
    for (std::int64_t n = 0; n < audio.frames(); ++n)
      audio.channel(0)[static_cast<std::size_t>(n)] +=
          ratio_from_db(-80) * gaussian(seed, static_cast<std::uint64_t>(n));
    MemorySource source(audio);
    const auto result = measure_aliasing(played(source, stimulus, Take{}), 0);
    const FoldedOrder& worst = result.channels[0].folded.at(0);
    ASSERT_EQ(worst.order, 3);
    ASSERT_FALSE(worst.bound);
    EXPECT_GT(worst.uncertainty_db, 0.03);
    within += std::abs(db_from_ratio(worst.ratio / (truth[3] / truth[1]))) < worst.uncertainty_db;
    // Half a frame before the fade-out.
    const double end_hz = 0.458 * 48000, before_s = 0.0101 + Sweep{}.fade_out_s;
    EXPECT_GE(result.to_hz, end_hz * std::exp2(-std::log2(end_hz / 100) * before_s / 2));
  }
  tell_coverage("product of a sweep", "worst_alias_dbc", within, count);
  EXPECT_GE(within, count * 85 / 100);
}

TEST(Aliasing, EdgesOfItsRange) {
  Stimulus stimulus(sweep_recipe(48000, 2));
  Audio silent(48000, 1, stimulus.frames());
  MemorySource source(silent);
  Take take;
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { (void)measure_aliasing(played(source, stimulus, take), 0, {}); })
          .find("the sweep is not in this capture"),
      std::string::npos);
  for (double& x : silent.channel(0)) x = 0.1;
  EXPECT_NE(
      message_of(ErrorCode::bad_argument,
                 [&] { (void)measure_aliasing(played(source, stimulus, take), 0, {.highest_order = 1}); })
          .find("not within 2 to 120"),
      std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] { (void)measure_aliasing(played(source, stimulus, take), 1, {}); })
                .find("a part that is a sweep"),
            std::string::npos);
  Audio short_one(48000, 1, 100);
  MemorySource short_source(short_one);
  EXPECT_NE(message_of(ErrorCode::bad_input,
                       [&] { (void)measure_aliasing(played(short_source, stimulus, take), 0, {}); })
                .find("too little of it"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::aliasing_test
