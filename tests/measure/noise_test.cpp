// SPDX-License-Identifier: MIT
#include "wavicon/measure/noise/noise.hpp"

#include "measure/judged.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/audio/weighting.hpp"
#include "wavicon/measure/common/calibration.hpp"

namespace wavicon::noise_test {
namespace {

using namespace testing;

constexpr double kSpreads = 4;     // standard deviations of the level of noise that a test allows
constexpr double kBaseHz = 0.001;  // mains, five seconds
constexpr double kLineDb = 0.1;
constexpr double kRangeDb = 0.05;
constexpr double kBits = 0.02;

NoiseResult measured(const Audio& audio, const NoiseOptions& options = {}) {
  MemorySource source(audio);
  return measure_noise(taken(source), options);
}

// White noise of a known RMS value; uniform, which is enough for a density.
Audio white(double rate, double seconds, double rms, std::uint64_t seed = 1) {
  Audio audio(rate, 1, static_cast<std::int64_t>(rate * seconds));
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] =
        rms * std::sqrt(12.0) * (random_uniform(seed, 0, static_cast<std::uint64_t>(n)) - 0.5);
  return audio;
}

void add_sine(Audio& audio, double hz, double peak) {
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] += peak * exact_sine(hz, audio.sample_rate_hz(), n);
}

TEST(Noise, WhiteNoiseReadsItsDensityTimesTheBand) {
  for (const double rate : {44100.0, 48000.0, 192000.0})
    for (const double rms : {1e-2, 1e-6}) {
      const auto result = measured(white(rate, 5, rms));
      const double expected_db = db_from_ratio(rms) + db_from_power_ratio((20000.0 - 20) / (rate / 2));
      EXPECT_NEAR(db_from_ratio(result.channels[0].noise_rms), expected_db,
                  kSpreads * result.spread_db + 0.01)
          << rate;
      EXPECT_FALSE(result.channels[0].tone_hz);
      EXPECT_TRUE(result.channels[0].spurs.empty()) << rate;
      // Weights over a flat density, summed in steps of 1 Hz.
      double a = 0, itu = 0;
      for (double hz = 20.5; hz < 20000; ++hz) {
        a += a_weight(hz);
        itu += itu_r_468_weight(hz);
      }
      EXPECT_NEAR(db_from_ratio(result.channels[0].noise_a_rms),
                  db_from_ratio(rms) + db_from_power_ratio(a / (rate / 2)), 0.08)
          << rate;
      EXPECT_NEAR(db_from_ratio(result.channels[0].noise_468_rms),
                  db_from_ratio(rms) + db_from_power_ratio(itu / (rate / 2)), 0.08)
          << rate;
    }
}

// Each band holds its share of a flat density, and is as sure as it is wide.
TEST(Noise, SeveralBandsAreReadAtOnce) {
  const auto audio = white(192000, 5, 1e-3);
  const auto result = measured(audio, {.more_bands_hz = {{20, 90000}, {100, 200}, {20, 200000}}});
  const ChannelNoise& c = result.channels[0];
  ASSERT_EQ(c.more_bands.size(), 3U);
  for (const BandNoise& band : c.more_bands)
    EXPECT_NEAR(db_from_ratio(band.rms), -60 + db_from_power_ratio((band.to_hz - band.from_hz) / 96000),
                1.6 * band.uncertainty_db + 0.01)
        << band.from_hz;
  EXPECT_EQ(c.more_bands[2].to_hz, 96000);
  EXPECT_LT(c.more_bands[0].uncertainty_db, c.noise_uncertainty_db);
  EXPECT_NEAR(c.more_bands[1].uncertainty_db / c.more_bands[0].uncertainty_db, std::sqrt(89980.0 / 100), 3);
  const Sheet sheet = noise_sheet(result, {});
  int levels = 0;
  for (const Reading& r : sheet.readings) levels += r.name == "noise_dbfs";
  EXPECT_EQ(levels, 4);
  EXPECT_HAS(sheet.findings.at(0).text, "dBFS from 20 Hz to 90 kHz");
  EXPECT_HAS(message_of(ErrorCode::bad_argument,
                        [&] {
                          (void)measured(audio, {.more_bands_hz = {{100, 50}}});
                        }),
             "from 100 to 50 Hz is empty");
}

// Hum of half the power: what is left without it is half.
TEST(Noise, TheShareOfHumIsTold) {
  const auto told = [](double hum_db) {
    Audio audio = white(48000, 5, 1e-4);
    add_sine(audio, 50, 1e-4 * std::sqrt(2.0 * 19980 / 24000) * ratio_from_db(hum_db));
    const Sheet sheet = noise_sheet(measured(audio), {});
    for (const Finding& f : sheet.findings)
      if (f.code == FindingCode::mains_hum) return f.text;
    return std::string();
  };
  EXPECT_HAS(told(0), "50 % of the noise power is hum, -80.8 dBFS are left without it");
  EXPECT_EQ(told(-20).find("of the noise power"), std::string::npos);
  EXPECT_HAS(told(30), "over 99 % of the noise power is hum");
}

TEST(Noise, LevelsAreAskedInVoltsWhereFullScaleIsKnown) {
  EXPECT_EQ(level_dbfs_of("-20", {}), -20);
  EXPECT_EQ(level_dbfs_of("-20dBFS", 2.0), -20);
  EXPECT_NEAR(level_dbfs_of("4V", 2.0), 20 * std::log10(2.0), 1e-12);
  EXPECT_NEAR(level_dbfs_of("50mV", 2.0), 20 * std::log10(0.025), 1e-12);
  EXPECT_NEAR(level_dbfs_of("4dBu", 2.0), 4 + 20 * std::log10(std::sqrt(0.6) / 2), 1e-9);
  EXPECT_NEAR(level_dbfs_of("-10dBV", 2.0), -10 - 20 * std::log10(2.0), 1e-12);
  for (const char* text : {"", "V", "4 V", "-4V", "0V", "1e999V", "nan", "4dB"})
    EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)level_dbfs_of(text, 2.0); }), "write it as")
        << text;
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [] { (void)level_dbfs_of("4V", {}); }),
             "--calibrate 0dBFS=2.45Vrms");
}

TEST(Noise, ToneAndHarmonicsAreCutOut) {
  for (const double level : {-60.0, -1.0}) {
    Audio audio = white(48000, 5, 1e-5);
    add_sine(audio, 997.3, ratio_from_db(level));
    for (int k = 2; k <= 6; ++k) add_sine(audio, k * 997.3, ratio_from_db(level - 20.0 * k));
    const auto result = measured(audio);
    const auto& c = result.channels[0];
    ASSERT_TRUE(c.tone_hz) << level;
    EXPECT_NEAR(*c.tone_hz, 997.3, 0.1);
    EXPECT_NEAR(db_from_ratio(c.tone_peak), level, 0.01);
    EXPECT_NEAR(db_from_ratio(c.noise_rms), -100 - 0.797, 0.06) << level;
    const Sheet sheet = noise_sheet(result, {});
    EXPECT_NEAR(*find_reading(sheet, "snr_db", 0)->value, level - 3.01 + 100.797, 0.07);
    EXPECT_NEAR(*find_reading(sheet, "dynamic_range_db", 0)->value, -3.01 + 100.797, 0.07);
    EXPECT_GT(c.over_time.size(), 50U);
    for (const double rms : c.over_time) EXPECT_NEAR(db_from_ratio(rms), -100.797, 0.6);
  }
}

// A tone is no hum for being near a multiple of 50 or 60 Hz, in a capture too short to keep their lobes
// apart.
TEST(Noise, AToneBesideTheMainsIsCutOutAsWell) {
  for (const double hz : {306.65, 70.0, 54.0, 293.0}) {
    Audio audio = white(48000, 3, 1e-4);
    add_sine(audio, hz, ratio_from_db(-32));
    const auto result = measured(audio);
    ASSERT_TRUE(result.channels[0].tone_hz) << hz;
    EXPECT_NEAR(*result.channels[0].tone_hz, hz, 0.2);
    EXPECT_NEAR(db_from_ratio(result.channels[0].noise_rms), -80 - 0.797, 0.15) << hz;
  }
  // Hum alone stays noise, off its frequency by half a percent too.
  Audio hum = white(48000, 3, 1e-4);
  add_sine(hum, 50.25, ratio_from_db(-50));
  EXPECT_FALSE(measured(hum).channels[0].tone_hz);
}

TEST(Noise, DynamicRangeAndBitsOfAnIdealConverter) {
  for (const int word : {12, 16, 20}) {
    Audio audio(48000, 1, 48000 * 5);
    const double step = std::ldexp(1.0, 1 - word);
    for (std::int64_t n = 0; n < audio.frames(); ++n)
      audio.channel(0)[static_cast<std::size_t>(n)] =
          step * std::nearbyint(ratio_from_db(-1) * exact_sine(997.123, 48000, n) / step);
    const Sheet sheet = noise_sheet(measured(audio), {});
    EXPECT_NEAR(*find_reading(sheet, "effective_bits", 0)->value, word, kBits) << word;
  }
  Audio audio = white(48000, 10, 1e-5);
  add_sine(audio, 997, ratio_from_db(-60));
  const Sheet sheet = noise_sheet(measured(audio, {.reference_dbfs = -2}), {});
  EXPECT_NEAR(*find_reading(sheet, "dynamic_range_db", 0)->value, 100.797 - 3.01 - 2, kRangeDb);
}

TEST(Noise, MainsHumIsFoundLineByLine) {
  for (const double base : {49.93, 50.0, 60.07}) {
    Audio audio = white(48000, 5, ratio_from_db(-90));
    const double lines[10] = {-85, 0, -92, 0, -101};
    for (int k = 1; k <= 5; ++k)
      if (lines[k - 1] < 0) add_sine(audio, k * base, ratio_from_db(lines[k - 1]));
    const ChannelNoise c = measured(audio).channels[0];
    ASSERT_TRUE(c.mains_hz) << base;
    EXPECT_NEAR(*c.mains_hz, base, kBaseHz);
    ASSERT_GE(c.mains.size(), 2U);
    for (const MainsLine& line : c.mains)
      EXPECT_LT(lines[line.order - 1], 0)
          << line.hz << " " << db_from_ratio(line.peak) << " over " << db_from_ratio(line.around);
    for (const MainsLine& line : c.mains)
      EXPECT_NEAR(db_from_ratio(line.peak), lines[line.order - 1], line.order == 5 ? 0.5 : kLineDb)
          << line.order;
    EXPECT_FALSE(c.tone_hz) << "hum is no test tone";
  }
  EXPECT_FALSE(measured(white(48000, 5, 1e-4)).channels[0].mains_hz);
}

TEST(Noise, OtherLinesAreListedAndRisingNoiseIsSaid) {
  Audio audio = white(48000, 6, 1e-5);
  add_sine(audio, 15734.2, 1e-5);
  const auto result = measured(audio);
  ASSERT_EQ(result.channels[0].spurs.size(), 1U);
  EXPECT_NEAR(result.channels[0].spurs[0].hz, 15734.2, 0.3);
  EXPECT_NEAR(db_from_ratio(result.channels[0].spurs[0].peak), -100, 0.3);
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] *= std::exp(static_cast<double>(n) / 100000);
  std::string text;
  for (const auto& finding : noise_sheet(measured(audio), {}).findings) text += finding.text + "\n";
  EXPECT_NE(text.find("the noise comes up by"), std::string::npos) << text;
}

// A tone that begins within the stretch splatters over all of the band: that makes the figure, and a warning
// says so.
TEST(Noise, ShortSoundsThatMakeTheFigureAreSaid) {
  constexpr double kFs = 44100;
  const auto text_of = [&](double begins_s) {
    Audio audio(kFs, 1, static_cast<std::int64_t>(14 * kFs));
    for (std::int64_t n = 0; n < audio.frames(); ++n) {
      const double t = static_cast<double>(n) / kFs;
      audio.channel(0)[static_cast<std::size_t>(n)] =
          1e-4 * std::sqrt(12.0) * (random_uniform(3, 0, static_cast<std::uint64_t>(n)) - 0.5) +
          (t >= begins_s ? 0.3 * std::sin(2 * std::numbers::pi * 733.3 * t) : 0);
    }
    std::string text;
    for (const Finding& finding : noise_sheet(measured(audio), {}).findings)
      if (finding.code == FindingCode::unsettled) text += finding.text;
    return text;
  };
  const std::string text = text_of(5);
  // White noise of -80 dBFS, of which 20 kHz out of 22.05 are -80.4.
  EXPECT_HAS(text, "half of the time the noise is not above -80.");
  EXPECT_HAS(text, "between 4.8");
  EXPECT_HAS(text, "leave that out with --from and --to");
  EXPECT_EQ(text_of(0), "");
}

TEST(Noise, CalibrationGivesVolts) {
  const Sheet sheet = noise_sheet(
      measured(white(48000, 5, 1e-5), {.band_from_hz = 0, .band_to_hz = 24000, .full_scale_vrms = 2.45}), {});
  EXPECT_NEAR(*find_reading(sheet, "noise_uvrms", 0)->value, 1e-5 * std::sqrt(2.0) * 2.45 * 1e6, 0.5);
  EXPECT_NEAR(*find_reading(sheet, "noise_dbu", 0)->value,
              db_from_ratio(1e-5 * std::sqrt(2.0) * 2.45 / 0.7746), 0.1);
}

TEST(Noise, EdgesOfItsRange) {
  EXPECT_NE(message_of(ErrorCode::bad_input, [] { (void)measured(Audio(48000, 1, 0)); }).find("0 frames"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [] { (void)measured(Audio(48000, 1, 1)); }).find("too short"),
            std::string::npos);
  const Sheet silent = noise_sheet(measured(Audio(48000, 1, 48000)), {});
  EXPECT_FALSE(find_reading(silent, "noise_dbfs", 0)->value);
  EXPECT_NE(silent.findings[0].text.find("digital silence"), std::string::npos);
  Audio broken = white(48000, 1, 1e-3);
  broken.channel(0)[30000] = INFINITY;
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { (void)measured(broken); }).find("NaN or infinity (channel 1"),
      std::string::npos);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument,
                 [&] { (void)measured(white(48000, 1, 1e-3), {.band_from_hz = 100, .band_to_hz = 50}); })
          .find("is empty"),
      std::string::npos);
  EXPECT_EQ(measured(white(8000, 1, 1e-3)).band_to_hz, 4000);
  EXPECT_GT(measured(white(768000, 0.5, 1e-3)).channels[0].noise_rms, 0);
}

}  // namespace
}  // namespace wavicon::noise_test
