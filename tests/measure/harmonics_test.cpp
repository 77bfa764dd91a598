// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/harmonics.hpp"

#include <algorithm>

#include "measure/judged.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::harmonics_test {
namespace {

using testing::exact_sine;
using testing::message_of;

// What docs/harmonics.md promises.
constexpr double kFrequencyPpm = 1.0;
constexpr double kLevelDb = 0.001;
constexpr double kFloorDoubleDbc = -300;
constexpr double kFloorFloatDbc = -180;
constexpr double kFloor24Dbc = -160;
constexpr double kThdNDb = 0.02;

struct Partial {
  int order = 1;
  double level_dbfs = 0;
  double phase_cycles = 0;
};

struct Signal {
  double rate = 48000;
  double hz = 997.3;
  double seconds = 1;
  std::vector<Partial> partials = {{1, -6, 0}};
  SampleFormat format = SampleFormat::float64;
  double drift_hz_per_s = 0;
  double hum_dbfs = -400;
  double white_dbfs = -400;  ///< RMS
  std::uint64_t seed = 11;
};

double gaussian(std::uint64_t seed, std::uint64_t n) {
  const double u = 1 - random_uniform(seed, 100, n), v = random_uniform(seed, 101, n);
  return std::sqrt(-2 * std::log(u)) * std::cos(2 * M_PI * v);
}

Audio rendered(const Signal& s) {
  Audio audio(s.rate, 1, std::llround(s.seconds * s.rate));
  const Quantiser quantiser(s.format, true, s.seed);
  auto x = audio.channel(0);
  for (std::int64_t n = 0; n < audio.frames(); ++n) {
    const double t = static_cast<double>(n) / s.rate;
    double value = ratio_from_db(s.hum_dbfs) * exact_sine(50, s.rate, n) +
                   ratio_from_db(s.white_dbfs) * gaussian(s.seed, static_cast<std::uint64_t>(n));
    for (const Partial& p : s.partials)
      value +=
          ratio_from_db(p.level_dbfs) *
          exact_sine(p.order * s.hz, s.rate, n, p.phase_cycles + p.order * 0.5 * s.drift_hz_per_s * t * t);
    x[static_cast<std::size_t>(n)] = quantiser.value(value, 0, n);
  }
  return audio;
}

ChannelHarmonics measured(const Signal& s) {
  return measure_harmonics(testing::taken(rendered(s), s.format)).channels[0];
}

double dbc(const ChannelHarmonics& c, int order) {
  return db_from_ratio(c.orders[static_cast<std::size_t>(order - 2)].amplitude / c.fundamental_amplitude);
}

double highest_raw_dbc(const ChannelHarmonics& c) {
  double highest = 0;
  for (const HarmonicOrder& order : c.orders) highest = std::max(highest, order.raw_amplitude);
  return db_from_ratio(highest / c.fundamental_amplitude);
}

TEST(Harmonics, FrequencyAndLevelOfATone24Bit) {
  for (const double rate : {44100.0, 48000.0, 96000.0, 192000.0})
    for (const double hz : {83.0, 997.3, 7777.3})
      for (const double level : {0.0, -13.5, -60.0}) {
        const auto c =
            measured({.rate = rate, .hz = hz, .partials = {{1, level, 0.1}}, .format = SampleFormat::pcm24});
        EXPECT_NEAR(c.fundamental_hz / hz, 1.0, kFrequencyPpm * 1e-6) << hz << " at " << rate;
        EXPECT_NEAR(db_from_ratio(c.fundamental_amplitude), level, kLevelDb) << hz << " at " << rate;
      }
}

TEST(Harmonics, OwnFloorInEveryFormat) {
  for (const double hz :
       {30.7, 997.3, 5003.7, 7777.3}) {  // a tone that repeats soon gathers its rounding errors in harmonics
    EXPECT_LT(highest_raw_dbc(measured({.hz = hz})), kFloorDoubleDbc) << hz;
    EXPECT_LT(highest_raw_dbc(measured({.hz = hz, .format = SampleFormat::float32})), kFloorFloatDbc) << hz;
    EXPECT_LT(highest_raw_dbc(measured({.hz = hz, .format = SampleFormat::pcm24})), kFloor24Dbc) << hz;
  }
  EXPECT_LT(highest_raw_dbc(measured({.seconds = 0.1})), kFloorDoubleDbc);
  EXPECT_LT(highest_raw_dbc(measured({.hz = 83, .seconds = 0.1})), kFloorDoubleDbc);
  EXPECT_LT(highest_raw_dbc(measured({.hz = 1000, .seconds = 0.003})), kFloorDoubleDbc);
}

TEST(Harmonics, ReadsWhatWasPutInDownTo140) {
  // Root mean square over orders and seeds: a single reading scatters with the 24-bit noise.
  for (const auto& [level, allowed] : {std::pair{-120.0, 0.02}, std::pair{-140.0, 0.1}}) {
    double squares = 0;
    int count = 0;
    for (std::uint64_t seed = 1; seed <= 6; ++seed) {
      Signal s{.partials = {{1, -1, 0}}, .format = SampleFormat::pcm24, .seed = seed};
      for (int k = 2; k <= 10; ++k) s.partials.push_back({k, -1 + level, 0.07 * k});
      const auto c = measured(s);
      for (int k = 2; k <= 10; ++k, ++count) squares += std::pow(dbc(c, k) - level, 2);
    }
    EXPECT_LT(std::sqrt(squares / count), allowed) << level;
  }
}

TEST(Harmonics, ALevelThatGrowsByADecibelReadsADecibelMore) {
  for (const double rate : {44100.0, 48000.0, 192000.0, 768000.0}) {
    double before = 0;
    for (const double level : {-80.0, -79.0, -78.0}) {
      const auto c = measured(
          {.rate = rate, .hz = 331, .seconds = 0.5, .partials = {{1, -20, 0}, {3, -20 + level, 0.3}}});
      EXPECT_NEAR(dbc(c, 3), level, 1e-6);
      if (before != 0) {
        EXPECT_NEAR(dbc(c, 3) - before, 1.0, 1e-6);
      }
      before = dbc(c, 3);
    }
  }
}

TEST(Harmonics, HumAndDriftDoNoHarm) {
  Signal s{.partials = {{1, -6, 0}}};
  for (int k = 2; k <= 10; ++k) s.partials.push_back({k, -106, 0});
  for (const double hum : {-400.0, -66.0})
    for (const double drift : {0.0, 0.1})
      for (const double seconds : {1.0, 2.0, 10.0}) {
        s.hum_dbfs = hum;
        s.drift_hz_per_s = drift;
        s.seconds = seconds;
        const auto c = measured(s);
        for (int k = 2; k <= 10; ++k)
          EXPECT_NEAR(dbc(c, k), -100, 0.02)
              << "H" << k << " hum " << hum << " drift " << drift << " " << seconds << " s";
      }
}

TEST(Harmonics, FewPeriodsAreFittedExactly) {
  for (const double periods : {3.0, 3.3, 8.3, 24.9}) {
    Signal s{.hz = 166, .seconds = periods / 166, .partials = {{1, -6, 0.2}}};
    for (int k = 2; k <= 10; ++k) s.partials.push_back({k, -126, 0.1});
    s.partials.push_back({11, -96, 0});  // an order that is not asked for must not disturb the others
    const auto c = measured(s);
    EXPECT_EQ(c.method, ChannelHarmonics::Method::joint_fit);
    for (int k = 2; k <= 10; ++k) EXPECT_NEAR(dbc(c, k), -120, 0.001) << periods << " periods, H" << k;
  }
}

TEST(Harmonics, FoldedOrdersAreReadWhereTheyFallAndCount) {
  Signal s{.hz = 7777.3,
           .partials = {{1, -6, 0}, {2, -66, 0}, {4, -56, 0.2}}};  // order 4 folds to 16890.8 Hz by itself
  const auto c = measured(s);
  EXPECT_TRUE(c.orders[2].folded);
  EXPECT_NEAR(c.orders[2].at_hz, 48000 - 4 * 7777.3, 1e-6);
  EXPECT_NEAR(dbc(c, 4), -50, 1e-6);
  EXPECT_NEAR(db_from_ratio(c.thd_ratio), 10 * std::log10(1e-6 + 1e-5), 1e-6);
  EXPECT_NEAR(db_from_ratio(c.thd_n_ratio), 10 * std::log10(1e-6 + 1e-5), 1e-6);
}

TEST(Harmonics, TheHeadlineSaysWhatFolds) {
  const auto sheet_of = [](const Signal& s) {
    return harmonics_sheet(measure_harmonics(testing::taken(rendered(s))), {});
  };
  // H3 of 15 kHz at -13.9 dBc falls on 3 kHz; nothing is below half the rate.
  const auto only = sheet_of({.hz = 15000.3, .partials = {{1, -6, 0}, {3, -19.9, 0}}});
  EXPECT_HAS(only.findings.at(0).text,
             "THD 20.2 % (-13.90 dB), strongest is H3 at -13.90 dBc, folded to 2.999 kHz");
  EXPECT_NEAR(*find_reading(only, "thd_db", 0)->value, -13.9, 1e-4);
  const auto part = sheet_of({.hz = 7777.3, .partials = {{1, -6, 0}, {2, -66, 0}, {4, -56, 0.2}}});
  EXPECT_HAS(part.findings.at(0).text, "91 % of its power folds");
  const auto none = sheet_of({.hz = 997.3, .partials = {{1, -6, 0}, {2, -66, 0}}});
  EXPECT_EQ(none.findings.at(0).text.find("fold"), std::string::npos);
}

TEST(Harmonics, OrdersThatCannotBeToldApartHaveNoValue) {
  const auto c = measured({.hz = 6000});  // order 4 on half the rate, 5 on order 3, 7 on the tone, 8 on DC
  for (const int k : {4, 5, 6, 7, 8, 9, 10})
    EXPECT_TRUE(c.orders[static_cast<std::size_t>(k - 2)].hidden) << k;
  EXPECT_FALSE(c.orders[0].hidden);
  EXPECT_FALSE(c.orders[1].hidden);
  const auto sheet = harmonics_sheet(measure_harmonics(testing::taken(rendered({.hz = 6000}))), {});
  EXPECT_FALSE(find_reading(sheet, "h5_dbc", 0)->value);
}

TEST(Harmonics, WeakOrdersAreBounded) {
  int covered = 0, bounded = 0, count = 0;
  for (std::uint64_t seed = 1; seed <= 20; ++seed) {
    const auto c = measured({.partials = {{1, -6, 0}, {3, -136, 0}}, .white_dbfs = -100, .seed = seed});
    for (const HarmonicOrder& order : c.orders) {
      bounded += order.bound;
      const double truth = order.order == 3 ? ratio_from_db(-136) : 0.0;
      covered += !order.bound || order.amplitude >= truth;
      ++count;
    }
    EXPECT_TRUE(c.thd_bound);
  }
  EXPECT_EQ(covered, count);
  EXPECT_GE(bounded, count - 3)
      << "noise rises 10 dB over its mean once in 20000 readings, with the 36th line now and then";
}

TEST(Harmonics, ThdNAndNoiseAgreeWithTheNoisePutIn) {
  // White noise of known RMS over half the rate: the band from 20 Hz to 20 kHz holds its share.
  for (const double rate : {48000.0, 96000.0}) {
    double error = 0, noise_error = 0;
    constexpr int kSeeds = 8;
    const double in_band = -80 + 10 * std::log10((20000 - 20) / (rate / 2));
    for (std::uint64_t seed = 1; seed <= kSeeds; ++seed) {
      const auto c =
          measured({.rate = rate, .seconds = 4, .partials = {{1, -6, 0}}, .white_dbfs = -80, .seed = seed});
      error += (db_from_ratio(c.thd_n_ratio) - (in_band + 6 + 3.0103)) / kSeeds;
      noise_error += (db_from_ratio(c.residual_noise_rms) - in_band) / kSeeds;
    }
    EXPECT_NEAR(error, 0, kThdNDb) << rate;
    EXPECT_NEAR(noise_error, 0, kThdNDb) << rate;
  }
  const auto distorted = measured({.partials = {{1, -6, 0}, {2, -66, 0}, {3, -76, 0}, {25, -86, 0}}});
  EXPECT_NEAR(db_from_ratio(distorted.thd_n_ratio), 10 * std::log10(1e-6 + 1e-7), kThdNDb)
      << "order 25 lies above 20 kHz";
  EXPECT_LT(db_from_ratio(distorted.residual_noise_rms), -250)
      << "orders beyond the counted ones are no noise";
}

TEST(Harmonics, ThdIsTheRootOfTheSumOfSquares) {
  const auto c = measured({.partials = {{1, -6, 0}, {2, -46, 0}, {3, -52, 0}, {10, -60, 0}, {11, -40, 0}}});
  const double expected =
      std::sqrt(1e-4 + ratio_from_db(-46) * ratio_from_db(-46) + ratio_from_db(-54) * ratio_from_db(-54));
  EXPECT_NEAR(c.thd_ratio, expected, 1e-9);
}

TEST(Harmonics, FloorIsComputedForTheFormat) {
  for (const auto& [format, low, high] :
       {std::tuple{SampleFormat::pcm16, -135.0, -105.0}, std::tuple{SampleFormat::pcm24, -185.0, -155.0},
        std::tuple{SampleFormat::float32, -210.0, -175.0},
        std::tuple{SampleFormat::float64, -350.0, -295.0}}) {
    const auto sheet =
        harmonics_sheet(measure_harmonics(testing::taken(rendered({.format = format}), format)), {});
    for (int k = 2; k <= 10; ++k) {
      const Reading* reading = find_reading(sheet, "h" + std::to_string(k) + "_dbc", 0);
      ASSERT_TRUE(reading->floor);
      EXPECT_GT(*reading->floor, low) << name_of(format);
      EXPECT_LT(*reading->floor, high) << name_of(format);
    }
    EXPECT_NEAR(*find_reading(sheet, "thd_n_db", 0)->floor, *find_reading(sheet, "thd_n_db", 0)->value, 0.3)
        << name_of(format);
  }
}

TEST(Harmonics, FindsTheSteadyStretchByItself) {
  Signal s{.seconds = 1, .partials = {{1, -20, 0}, {3, -70, 0}}};
  const Audio tone = rendered(s);
  Audio audio(48000, 1,
              3 * 48000);  // silence, tone, a louder beginning of something else that is too short to count
  std::copy(tone.channel(0).begin(), tone.channel(0).end(), audio.channel(0).begin() + 30000);
  for (int n = 0; n < 1000; ++n)
    audio.channel(0)[static_cast<std::size_t>(100000 + n)] = 0.1 * exact_sine(5000, 48000, n);
  const auto c = measure_harmonics(testing::taken(audio)).channels[0];
  EXPECT_FALSE(c.whole);
  EXPECT_GE(c.first_frame, 30000);
  EXPECT_LE(c.first_frame + c.frames, 78000);
  EXPECT_GT(c.frames, 45000);
  EXPECT_NEAR(dbc(c, 3), -50, 0.001);
  EXPECT_NEAR(db_from_ratio(c.fundamental_amplitude), -20, kLevelDb);
}

TEST(Harmonics, TheToneAskedForIsMeasured) {
  const Audio audio =
      rendered({.hz = 100, .seconds = 2, .partials = {{1, -40, 0}, {20, -10, 0}, {60, -60, 0}}});
  EXPECT_NEAR(measure_harmonics(testing::taken(audio)).channels[0].fundamental_hz, 2000, 1e-6);
  const auto c = measure_harmonics(testing::taken(audio), {.tone_hz = 99}).channels[0];
  EXPECT_NEAR(c.fundamental_hz, 100, 1e-6);
  EXPECT_NEAR(db_from_ratio(c.fundamental_amplitude), -40, kLevelDb);
}

TEST(Harmonics, ChannelsAreMeasuredByThemselves) {
  Audio audio(48000, 64, 24000);
  for (int c = 0; c < 64; ++c) {
    const Audio one =
        rendered({.hz = 500.0 + 10 * c, .seconds = 0.5, .partials = {{1, -10, 0}, {2, -50.0 - c, 0}}});
    std::copy(one.channel(0).begin(), one.channel(0).end(), audio.channel(c).begin());
  }
  std::fill(audio.channel(5).begin(), audio.channel(5).end(), 0.0);
  const auto result = measure_harmonics(testing::taken(audio));
  const auto sheet = harmonics_sheet(result, {.channels = 64});
  for (int c = 0; c < 64; ++c) {
    const auto& channel = result.channels[static_cast<std::size_t>(c)];
    if (c == 5) {
      EXPECT_EQ(channel.state, ChannelHarmonics::State::silent);
      EXPECT_FALSE(find_reading(sheet, "thd_db", c)->value);
      continue;
    }
    EXPECT_NEAR(channel.fundamental_hz, 500 + 10 * c, 1e-6);
    EXPECT_NEAR(dbc(channel, 2), -40 - c, 1e-6);
  }
}

TEST(Harmonics, TheSameAudioGivesTheSameBits) {
  const Audio audio = rendered({.format = SampleFormat::pcm24});
  const auto a = measure_harmonics(testing::taken(audio)), b = measure_harmonics(testing::taken(audio));
  EXPECT_EQ(a.channels[0].fundamental_hz, b.channels[0].fundamental_hz);
  for (std::size_t i = 0; i < a.channels[0].orders.size(); ++i)
    EXPECT_EQ(a.channels[0].orders[i].amplitude, b.channels[0].orders[i].amplitude);
}

TEST(Harmonics, RefusesWhatCannotBeMeasured) {
  auto refused = [](const Audio& audio, const HarmonicsOptions& options = {}) {
    return message_of(ErrorCode::bad_input, [&] { (void)measure_harmonics(testing::taken(audio), options); });
  };
  EXPECT_NE(refused(Audio(48000, 1, 0)).find("0 frames"), std::string::npos);
  EXPECT_NE(refused(Audio(48000, 2, 48000)).find("silence has no harmonics"), std::string::npos);
  EXPECT_FALSE(refused(rendered({.seconds = 1.0 / 48000, .partials = {{1, -6, 0.25}}})).empty());
  EXPECT_NE(refused(rendered({.hz = 100, .seconds = 0.02})).find("periods"), std::string::npos);
  EXPECT_NE(refused(rendered({.partials = {}, .white_dbfs = -20})).find("no steady tone"), std::string::npos);
  Audio broken = rendered({});
  broken.channel(0)[77] = NAN;
  EXPECT_NE(refused(broken).find("frame 77"), std::string::npos);
}

TEST(Harmonics, RefusesOptionsOutOfRange) {
  const Audio audio = rendered({.seconds = 0.1});
  auto refused = [&](const HarmonicsOptions& options) {
    return message_of(ErrorCode::bad_argument,
                      [&] { (void)measure_harmonics(testing::taken(audio), options); });
  };
  EXPECT_NE(refused({.tone_hz = 24000}).find("tone 24000"), std::string::npos);
  EXPECT_NE(refused({.highest_order = 1}).find("highest order 1"), std::string::npos);
  EXPECT_NE(refused({.band_from_hz = 500, .band_to_hz = 400}).find("band 500 to 400"), std::string::npos);
  EXPECT_NE(refused({.from_s = 0.2}).find("is not within the capture"), std::string::npos);
  EXPECT_NE(refused({.to_s = 5}).find("0 s to 5 s"), std::string::npos);
}

TEST(HarmonicsSheet, CarriesConditionsAndSaysWhatItMeans) {
  const Audio audio = rendered({.partials = {{1, -6, 0}, {3, -66, 0}}, .format = SampleFormat::pcm24});
  HarmonicsOptions options{.rms_reference = RmsReference::sine};
  const auto square = harmonics_sheet(measure_harmonics(testing::taken(audio, SampleFormat::pcm24)), {});
  const auto sine =
      harmonics_sheet(measure_harmonics(testing::taken(audio, SampleFormat::pcm24), options), {});
  const Reading* thd = find_reading(sine, "thd_db", 0);
  EXPECT_NEAR(*thd->value, -60, 0.001);
  for (const char* name : {"frequency_hz", "level_dbfs", "sample_rate_hz", "duration_s", "window", "orders"})
    EXPECT_NE(find_condition(*thd, name), nullptr) << name;
  EXPECT_NE(find_condition(*find_reading(sine, "sinad_db", 0), "bandwidth_hz"), nullptr);
  EXPECT_NEAR(*find_reading(sine, "residual_noise_dbfs", 0)->value -
                  *find_reading(square, "residual_noise_dbfs", 0)->value,
              3.0103, 1e-4);
  EXPECT_NEAR(*find_reading(sine, "sinad_db", 0)->value, -*find_reading(sine, "thd_n_db", 0)->value, 1e-12);
  EXPECT_NEAR(*find_reading(sine, "thd_percent", 0)->value, 0.1, 1e-5);
  EXPECT_NE(
      sine.findings[0].text.find("THD 0.1 % (-60.00 dB), strongest is H3 at -60.00 dBc, odd orders only"),
      std::string::npos)
      << sine.findings[0].text;
}

TEST(HarmonicsSheet, WarnsOfWhatMayMislead) {
  auto texts = [](const Signal& s, double offset = 0) {
    Audio audio = rendered(s);
    for (double& x : audio.channel(0))
      x = std::clamp(x + offset, -1.0, is_integer(s.format) ? 1 - 0x1p-23 : 10.0);
    std::string all;
    for (const auto& finding :
         harmonics_sheet(measure_harmonics(testing::taken(audio, s.format)), {}).findings)
      all += finding.text + "\n";
    return all;
  };
  EXPECT_NE(texts({.partials = {{1, 3, 0}}, .format = SampleFormat::float32}).find("peaks at +3.00 dBFS"),
            std::string::npos);
  EXPECT_NE(texts({.partials = {{1, 3, 0}}, .format = SampleFormat::pcm24}).find("may be clipped"),
            std::string::npos);
  EXPECT_NE(texts({}, 0.01).find("DC offset of 0.010000 (-40.0 dBFS)"), std::string::npos);
  EXPECT_NE(texts({.hz = 100, .seconds = 0.1}).find("only 10.0 periods"), std::string::npos);
  EXPECT_NE(texts({.hz = 9100.3}).find("orders 3 to 10 are above half the rate (24 kHz)"), std::string::npos);
  EXPECT_NE(texts({.hz = 20000.1}).find("there is no THD"), std::string::npos);
}

}  // namespace
}  // namespace wavicon::harmonics_test
