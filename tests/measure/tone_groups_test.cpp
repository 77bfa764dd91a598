// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/tone_groups.hpp"

#include "measure/judged.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::tone_groups_test {
namespace {

using namespace testing;

constexpr double kLevelDb = 0.001;
constexpr double kProductDb = 0.02;  // at -120 dBc, 24 bits, 1 s

struct Pair {
  double f1 = 60, f2 = 7000, a1 = 0.4, a2 = 0.1;
};

template <typename Device>
Audio through(const Pair& p, double rate, const Device& device, SampleFormat format = SampleFormat::pcm24,
              double seconds = 1) {
  Audio audio(rate, 1, std::llround(seconds * rate));
  const Quantiser quantiser(format, is_integer(format), 5);
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] = quantiser.value(
        device(p.a1 * exact_sine(p.f1, rate, n) + p.a2 * exact_sine(p.f2, rate, n, 0.1)), 0, n);
  return audio;
}

const Reading& product(const Sheet& sheet, const std::string& name) {
  for (const Reading& r : sheet.readings)
    if (r.name == "product_dbc" && std::get<std::string>(*find_condition(r, "product")) == name) return r;
  throw std::out_of_range(name);
}

double value(const Sheet& sheet, const std::string& name) {
  return find_reading(sheet, name, 0)->value.value();
}

// y = x + a·x² + b·x³: f1 ± f2 have a·A1·A2, 2·f1 ± f2 have 3/4·b·A1²·A2.
TEST(ToneGroups, ProductsOfAPolynomialHaveTheirClosedForm) {
  for (const double rate : {44100.0, 48000.0, 192000.0})
    for (const auto& [square, cube] : {std::pair{0.05, 0.02}, std::pair{1e-4, 1e-5}}) {
      const Pair p;
      const auto result = measure_tone_group(
          taken(through(p, rate, [s = square, c = cube](double x) { return x + s * x * x + c * x * x * x; }),
                SampleFormat::pcm24),
          {.tones_hz = {p.f1, p.f2}});
      const Sheet sheet = tone_group_sheet(result, {});
      EXPECT_EQ(sheet.measurement, "intermodulation");
      // The fundamentals gain a little from the cube: b·(3/4·A³ + 3/2·A·B²).
      const double a1 = p.a1 + cube * (0.75 * std::pow(p.a1, 3) + 1.5 * p.a1 * p.a2 * p.a2),
                   a2 = p.a2 + cube * (0.75 * std::pow(p.a2, 3) + 1.5 * p.a2 * p.a1 * p.a1);
      const auto& tones = result.channels[0].tones;
      EXPECT_NEAR(db_from_ratio(tones[0].amplitude / a1), 0, kLevelDb);
      EXPECT_NEAR(db_from_ratio(tones[1].amplitude / a2), 0, kLevelDb);
      EXPECT_NEAR(tones[1].hz, p.f2, 1e-6 * p.f2);
      const double second = square * p.a1 * p.a2, third = 0.75 * cube * p.a1 * p.a1 * p.a2;
      EXPECT_NEAR(*product(sheet, "f2 - f1").value, db_from_ratio(second / a1), kProductDb);
      EXPECT_NEAR(*product(sheet, "f2 + f1").value, db_from_ratio(second / a1), kProductDb);
      if (db_from_ratio(third / a1) > -125) {
        EXPECT_NEAR(*product(sheet, "f2 - 2·f1").value, db_from_ratio(third / a1), kProductDb);
        EXPECT_NEAR(value(sheet, "imd_third_db"), db_from_ratio(2 * third / a2), kProductDb);
      }
      EXPECT_NEAR(*product(sheet, "2·f1").value, db_from_ratio(0.5 * square * p.a1 * p.a1 / a1), kProductDb);
      EXPECT_NEAR(value(sheet, "imd_second_db"), db_from_ratio(2 * second / a2), kProductDb);
      EXPECT_NEAR(value(sheet, "imd_db"), db_from_ratio(2 * std::hypot(second, third) / a2), kProductDb);
    }
}

TEST(ToneGroups, TwinTonesAreReadByTheirDifferences) {
  const Pair p{19000, 20000, 0.25, 0.25};
  const double square = 0.02, cube = 0.01;
  const auto result = measure_tone_group(
      taken(through(p, 96000, [&](double x) { return x + square * x * x + cube * x * x * x; }),
            SampleFormat::pcm24),
      {.tones_hz = {p.f1, p.f2}});
  const Sheet sheet = tone_group_sheet(result, {});
  const double both = result.channels[0].tones[0].amplitude + result.channels[0].tones[1].amplitude;
  EXPECT_NEAR(value(sheet, "imd_second_db"), db_from_ratio(square * p.a1 * p.a2 / both), kProductDb);
  EXPECT_NEAR(value(sheet, "imd_third_db"), db_from_ratio(2 * 0.75 * cube * std::pow(p.a1, 3) / both),
              kProductDb);
  EXPECT_NEAR(*product(sheet, "2·f1 - f2").value,
              db_from_ratio(0.75 * cube * std::pow(p.a1, 3) / result.channels[0].tones[0].amplitude),
              kProductDb);
}

TEST(ToneGroups, ACleanPairReadsBoundsAndAFloor) {
  const Pair p;
  const Sheet sheet = tone_group_sheet(
      measure_tone_group(taken(through(p, 48000, [](double x) { return x; }), SampleFormat::pcm24),
                         {.tones_hz = {p.f1, p.f2}, .played_dbfs = {db_from_ratio(0.4), -20}}),
      {});
  const Reading* imd = find_reading(sheet, "imd_db", 0);
  EXPECT_TRUE(imd->bound);
  EXPECT_LT(*imd->value, -130);
  EXPECT_LT(*imd->floor, -138);  // a bound as well: what chance passes once in 10 000
  for (const Reading& r : sheet.readings) {
    if (r.name == "tone_dbfs") {
      EXPECT_NEAR(std::get<double>(*find_condition(r, "gain_db")), 0, kLevelDb);
    }
  }
}

TEST(ToneGroups, AMultitoneShowsEachLevelAndTheRest) {
  const double rate = 48000, noise_rms = 1e-4;
  const std::vector<double> hz = {83.3, 331, 661.7, 2503, 9973, 15013};
  Audio audio(rate, 2, 2 * 48000);
  for (std::int64_t n = 0; n < audio.frames(); ++n) {
    double x = noise_rms * std::sqrt(12.0) * (random_uniform(3, 0, static_cast<std::uint64_t>(n)) - 0.5);
    for (std::size_t i = 0; i < hz.size(); ++i)
      x += 0.1 / static_cast<double>(i + 1) * exact_sine(hz[i], rate, n);
    audio.channel(1)[static_cast<std::size_t>(n)] = x;
  }
  const auto result =
      measure_tone_group(taken(audio), {.tones_hz = hz, .band_from_hz = 0, .band_to_hz = 24000});
  EXPECT_EQ(result.channels[0].state, ChannelTones::State::silent);
  const ChannelTones& c = result.channels[1];
  double power = 0;
  for (std::size_t i = 0; i < hz.size(); ++i) {
    const double amplitude = 0.1 / static_cast<double>(i + 1);
    EXPECT_NEAR(db_from_ratio(c.tones[i].amplitude / amplitude), 0, 0.01);
    power += amplitude * amplitude / 2;
  }
  EXPECT_NEAR(db_from_ratio(c.rest_ratio), db_from_ratio(noise_rms / std::sqrt(power)), 0.1);
  EXPECT_NEAR(db_from_ratio(c.noise_rms), db_from_ratio(noise_rms), 0.1);
  EXPECT_TRUE(c.products.empty());
  EXPECT_EQ(tone_group_sheet(result, {}).measurement, "multitone");
}

TEST(ToneGroups, WhatCannotBeMeasuredIsSaid) {
  const Pair p;
  const Audio clean = through(p, 48000, [](double x) { return x; });
  auto refused = [&](const Audio& audio, const ToneGroupOptions& o,
                     ErrorCode code = ErrorCode::bad_argument) {
    return message_of(code, [&] { (void)measure_tone_group(taken(audio), o); });
  };
  EXPECT_NE(refused(clean, {.tones_hz = {60}}).find("1 tones"), std::string::npos);
  EXPECT_NE(refused(clean, {.tones_hz = {7000, 60}}).find("rising"), std::string::npos);
  EXPECT_NE(refused(clean, {.tones_hz = {60, 30000}}).find("30000"), std::string::npos);
  EXPECT_NE(refused(clean, {.tones_hz = {1000, 1010}}, ErrorCode::bad_input)
                .find("too short to tell tones 10 Hz apart"),
            std::string::npos);
  EXPECT_NE(refused(clean, {.tones_hz = {3000, 4000}}, ErrorCode::bad_input).find("do not stand out"),
            std::string::npos);
  EXPECT_NE(refused(Audio(48000, 1, 0), {.tones_hz = {60, 7000}}, ErrorCode::bad_input).find("0 frames"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::tone_groups_test
