// SPDX-License-Identifier: MIT
// Phases of the orders, one period of the tone, and what a path added.

#include "measure/judged.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/harmonics/change.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"

namespace wavicon::harmonics_shape_test {
namespace {

using namespace testing;

constexpr double kPhaseDeg = 0.01;

struct Partial {
  int order;
  double amplitude;
  double phase_deg;
};

Audio clean_tone(double hz, double rate, double seconds, const std::vector<Partial>& partials,
                 double start_cycles) {
  Audio audio(rate, 1, std::llround(seconds * rate));
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    for (const Partial& p : partials)
      audio.channel(0)[static_cast<std::size_t>(n)] +=
          p.amplitude * exact_sine(p.order * hz, rate, n, p.order * start_cycles + p.phase_deg / 360);
  return audio;
}

JudgedCapture tone(double hz, double rate, double seconds, const std::vector<Partial>& partials,
                   double start_cycles) {
  return taken(clean_tone(hz, rate, seconds, partials, start_cycles));
}

const std::vector<Partial> kPartials = {{1, 0.5, 0},  {2, 0.01, 30},    {3, 0.02, 180},   {4, 0.003, -77},
                                        {5, 1e-4, 0}, {6, 2e-3, 123.4}, {7, 1e-3, -179.5}};

TEST(HarmonicsShape, PhasesAreThoseOfTheOrdersWhereverTheToneStarts) {
  for (const double rate : {44100.0, 96000.0})
    for (const double seconds : {0.01, 1.0, 26.0})  // joint fit, one window, several windows
      for (const double start : {0.0, 0.137, 0.5}) {
        if (seconds > 1 && (start != 0.137 || rate != 44100)) continue;
        const auto result = measure_harmonics(tone(997.3, rate, seconds, kPartials, start));
        for (const HarmonicOrder& order : result.channels[0].orders) {
          if (order.order > 7) continue;
          const double expected = kPartials[static_cast<std::size_t>(order.order - 1)].phase_deg;
          EXPECT_NEAR(std::remainder(order.phase_deg - expected, 360), 0, kPhaseDeg)
              << rate << " " << seconds << " " << start << " order " << order.order;
        }
      }
}

TEST(HarmonicsShape, FoldedOrdersKeepTheirPhase) {
  const auto result =
      measure_harmonics(tone(9973, 48000, 1, {{1, 0.5, 0}, {3, 0.01, 40}, {4, 0.01, -60}}, 0.2));
  EXPECT_TRUE(result.channels[0].orders[1].folded);
  EXPECT_NEAR(result.channels[0].orders[1].phase_deg, 40, kPhaseDeg);
  EXPECT_NEAR(result.channels[0].orders[2].phase_deg, -60, kPhaseDeg);
}

// Of tones one after the other the one that lasts is measured, unless it is more than 20 dB softer.
TEST(HarmonicsShape, TheLongestOfTonesNearlyAsLoudIsTaken) {
  const auto in_turn = [](double long_hz, double long_level) {
    Audio audio(48000, 1, 48000 * 5);
    for (std::int64_t n = 0; n < audio.frames(); ++n) {
      const bool late = n >= 48000;
      audio.channel(0)[static_cast<std::size_t>(n)] =
          (late ? long_level : 0.5) * exact_sine(late ? long_hz : 997, 48000, n, 0);
    }
    return measure_harmonics(taken(audio));
  };
  EXPECT_NEAR(in_turn(3000, 0.1).channels[0].fundamental_hz, 3000, 0.01);
  EXPECT_NEAR(in_turn(3000, 0.02).channels[0].fundamental_hz, 997, 0.01);
  EXPECT_NEAR(in_turn(997, 0.1).channels[0].fundamental_amplitude, 0.1, 1e-4);
  EXPECT_NEAR(in_turn(997, 0.02).channels[0].fundamental_amplitude, 0.5, 1e-4);
}

TEST(HarmonicsShape, OnePeriodIsTheWaveform) {
  for (const double seconds : {0.02, 1.0}) {
    const auto result = measure_harmonics(tone(997.3, 48000, seconds, kPartials, 0.3));
    const ChannelHarmonics& c = result.channels[0];
    ASSERT_GT(c.period.size(), 300U);
    for (std::size_t i = 0; i < c.period.size(); ++i) {
      double expected = 0;
      for (const Partial& p : kPartials)
        expected += p.amplitude * std::sin((p.order * c.period_deg[i] + p.phase_deg) * M_PI / 180);
      EXPECT_NEAR(c.period[i], expected, 2e-4) << c.period_deg[i];
    }
  }
}

// Hum so close to a low tone that both are one line beats with it: the level is as unsure as that makes it.
TEST(HarmonicsShape, AnotherLineInTheLobeIsUncertain) {
  for (const double hum_hz : {50.02, 59.97})
    for (const double hum : {0.0, 2e-3, 2e-2}) {
      Audio audio = clean_tone(hum_hz == 50.02 ? 48.74 : 67.19, 48000, 0.98, kPartials, 0.1);
      for (std::int64_t n = 0; n < audio.frames(); ++n)
        audio.channel(0)[static_cast<std::size_t>(n)] += 0.5 * hum * exact_sine(hum_hz, 48000, n, 0.2);
      const ChannelHarmonics c = measure_harmonics(taken(audio)).channels[0];
      const double off_db = db_from_ratio(c.fundamental_amplitude / 0.5);
      EXPECT_LE(std::abs(off_db), 3 * c.fundamental_uncertainty_db + 1e-5) << hum_hz << " at " << hum;
      if (hum == 0) {
        EXPECT_LT(c.fundamental_uncertainty_db, 1e-4);
      }
    }
}

// Few frames make a period, and fall on few places: the curve goes between them as the orders do, without
// corners at the crests.
TEST(HarmonicsShape, APeriodOfFewFramesIsRound) {
  for (const double hz : {1000.0, 4000.0, 8000.0, 12000.0}) {
    std::vector<Partial> partials;
    for (const Partial& p : kPartials)
      if (p.order * hz < 23999) partials.push_back(p);
    const auto result = measure_harmonics(tone(hz, 48000, 1, partials, 0.3));
    const ChannelHarmonics& c = result.channels[0];
    ASSERT_GT(c.period.size(), 300U) << hz;
    for (std::size_t i = 0; i < c.period.size(); ++i) {
      double expected = 0;
      for (const Partial& p : partials)
        expected += p.amplitude * std::sin((p.order * c.period_deg[i] + p.phase_deg) * M_PI / 180);
      EXPECT_NEAR(c.period[i], expected, 1e-6) << hz << " at " << c.period_deg[i];
    }
  }
}

Sheet sheet_of(const std::vector<Partial>& partials, double start = 0) {
  return harmonics_sheet(measure_harmonics(tone(997.3, 48000, 1, partials, start)), {.channels = 1});
}

TEST(HarmonicsShape, WhatWasAddedIsADifferenceOfVectors) {
  // What went in has H2 at 0.01/90°, what came out, at half the level, 0.01/2 at 90° and 0.004/2 at 0° on
  // top.
  const Sheet before = sheet_of({{1, 0.5, 0}, {2, 0.01, 90}, {3, 0.002, 10}});
  const double size = std::hypot(0.01, 0.004), angle = std::atan2(0.01, 0.004) * 180 / M_PI;
  Sheet after = sheet_of({{1, 0.25, 0}, {2, size / 2, angle}, {3, 0.001, 10}}, 0.4);
  add_harmonics_change(after, before);
  EXPECT_NEAR(*find_reading(after, "h2_added_dbc", 0)->value, db_from_ratio(0.004 / 0.5), 1e-3);
  EXPECT_LT(*find_reading(after, "h3_added_dbc", 0)->value, -180) << "passed on, not added";
  EXPECT_TRUE(find_reading(after, "h5_added_dbc", 0)->bound) << "neither holds one";
  const double change = std::hypot(size, 0.002) / std::hypot(0.01, 0.002);
  EXPECT_NEAR(*find_reading(after, "thd_change_db", 0)->value, db_from_ratio(change), 1e-3);

  Sheet silent{"harmonics", {.channels = 1}, {}, {}, {}, {}, {}};
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { add_harmonics_change(after, silent); }).find("no tone"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::harmonics_shape_test
