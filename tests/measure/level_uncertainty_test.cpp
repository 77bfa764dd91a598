// SPDX-License-Identifier: MIT
// Uncertainties of levels, spectra and pairs, by repetition.
#include <numbers>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "measure/repetitions.hpp"
#include "wavicon/audio/weighting.hpp"
#include "wavicon/measure/levels/levels.hpp"
#include "wavicon/measure/pair/pair.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"

namespace wavicon::level_uncertainty_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;

std::vector<double> white(double seconds, double dbfs, std::uint64_t seed) {
  return noise(static_cast<std::size_t>(seconds * kRate), dbfs, seed);
}

TEST(LevelUncertainty, OfNoiseIsWhatRepetitionsShow) {
  for (const double seconds : {0.1, 1.0}) {
    // The level of the highest sample of so many: the mean of all seeds stands for it.
    double peak_db = 0;
    std::vector<Sheet> sheets;
    for (std::uint64_t seed = 0; seed < kSeeds; ++seed) {
      const Audio audio = audio_of(white(seconds, -30, 500 + seed), kRate);
      MemorySource source(audio);
      sheets.push_back(
          levels_sheet(measure_levels(taken(source), {.true_peak = false, .loudness = false}), {}));
      peak_db += *find_reading(sheets.back(), "peak_dbfs", 0)->value / kSeeds;
    }
    Repetitions seen(
        {{"rms_dbfs", -30}, {"rms", ratio_from_db(-30)}, {"dc_offset", 0}, {"peak_dbfs", peak_db}});
    for (const Sheet& sheet : sheets) seen.add(sheet);
    seen.expect_honest(std::to_string(seconds) + " s");
  }
}

TEST(LevelUncertainty, OfLoudnessIsWhatRepetitionsShow) {
  double power = 0;
  for (double hz = 0.5; hz < kRate / 2; ++hz) power += k_weight(hz) / (kRate / 2);
  Repetitions seen({{"loudness_integrated_lufs", -0.691 - 30 + db_from_power_ratio(power)}}, std::nullopt);
  for (std::uint64_t seed = 0; seed < kSeeds; ++seed) {
    const Audio audio = audio_of(white(4, -30, 900 + seed), kRate);
    MemorySource source(audio);
    seen.add(levels_sheet(measure_levels(taken(source), {.true_peak = false}), {}));
  }
  seen.expect_honest("4 s");
}

// A tone's level is sure by as much as noise hides of it; what moves has no level but its own.
TEST(LevelUncertainty, IsOfWhatHoldsStill) {
  std::vector<double> tone = white(2, -80, 3), fading = tone;
  for (std::size_t n = 0; n < tone.size(); ++n) {
    const double v = 0.5 * std::sin(2 * std::numbers::pi * 1000 / kRate * static_cast<double>(n));
    tone[n] += v;
    fading[n] += v * std::exp(-static_cast<double>(n) / 30000);
  }
  const auto of = [](const std::vector<double>& x, const char* name) {
    const Audio audio = audio_of(x, kRate);
    MemorySource source(audio);
    return *find_reading(levels_sheet(measure_levels(taken(source), {}), {}), name, 0);
  };
  ASSERT_TRUE(of(tone, "rms_dbfs").uncertainty);
  EXPECT_LT(*of(tone, "rms_dbfs").uncertainty, 3e-3);  // cut periods
  EXPECT_FALSE(of(fading, "rms_dbfs").uncertainty);
  EXPECT_TRUE(of(tone, "dc_offset_dbfs").bound);
  for (double& v : tone) v += 0.01;
  EXPECT_FALSE(of(tone, "dc_offset_dbfs").bound);
  EXPECT_NEAR(*of(tone, "dc_offset_dbfs").value, -40, 0.01);
}

TEST(SpectrumUncertainty, OfLinesAndBandsIsWhatRepetitionsShow) {
  for (const double snr_db : {30.0, 50.0}) {
    Repetitions line({{"line_dbfs", -20}}), low({{"below_20_hz_dbfs", 0}});
    for (std::uint64_t seed = 0; seed < kSeeds; ++seed) {
      std::vector<double> x = white(2, -20 - snr_db, 70 + seed);
      for (std::size_t n = 0; n < x.size(); ++n)
        x[n] += 0.1 * std::sin(2 * std::numbers::pi * 1003.7 / kRate * static_cast<double>(n));
      const Audio audio = audio_of(x, kRate);
      MemorySource source(audio);
      line.add(spectrum_sheet(measure_spectrum(taken(source), {.resolution_hz = 20, .most_peaks = 1}), {}));
    }
    line.expect_honest(std::to_string(snr_db) + " dB");
  }
  // Third octaves of white noise, from some ten values to thousands.
  std::map<int, int> within;
  for (std::uint64_t seed = 0; seed < kSeeds; ++seed) {
    const Audio audio = audio_of(white(2, -30, 7000 + seed), kRate);
    MemorySource source(audio);
    const auto result = measure_spectrum(taken(source), {.bands_per_octave = 3});
    for (const int at : {100, 1000, 10000})
      for (const SpectrumBand& band : result.channels[0].bands)
        if (std::abs(band.centre_hz / at - 1) < 0.05) {
          const double width = band.centre_hz * (std::exp2(1 / 6.0) - std::exp2(-1 / 6.0)),
                       truth = -30 + db_from_power_ratio(width / (kRate / 2));
          within[at] += std::abs(db_from_ratio(band.rms) - truth) <= *band.uncertainty_db;
        }
  }
  for (const auto& [hz, count] : within) {
    tell_coverage("third octave of spectrum", std::to_string(hz) + " Hz", count, kSeeds);
    EXPECT_GE(count, 0.93 * kSeeds - 13) << hz;
    EXPECT_LE(count, 0.98 * kSeeds + 8) << hz;
  }
  EXPECT_EQ(within.size(), 3u);
}

// Another line within its lobe reads as a part of it: then it is no surer than that.
TEST(SpectrumUncertainty, HoldsALineThatLiesTooNear) {
  std::vector<double> x = white(3, -130, 5);
  for (std::size_t n = 0; n < x.size(); ++n) {
    const double t = 2 * std::numbers::pi * static_cast<double>(n) / kRate;
    x[n] += 0.1 * std::sin(101 * t) + 0.01 * std::sin(95 * t + 1);
  }
  const Audio audio = audio_of(x, kRate);
  MemorySource source(audio);
  const auto peaks = measure_spectrum(taken(source), {.most_peaks = 1}).channels[0].peaks;
  ASSERT_EQ(peaks.size(), 1u);
  EXPECT_GT(std::abs(db_from_ratio(peaks[0].peak) + 20), 0.01);
  EXPECT_LT(std::abs(db_from_ratio(peaks[0].peak) + 20), peaks[0].uncertainty_db);
}

TEST(SpectrumUncertainty, OfNoValueIsNone) {
  const Audio audio(kRate, 1, 48000);
  MemorySource source(audio);
  for (const Reading& r : spectrum_sheet(measure_spectrum(taken(source)), {}).readings) {
    EXPECT_FALSE(r.value) << r.name;
    EXPECT_FALSE(r.uncertainty) << r.name;
  }
}

TEST(PairUncertainty, IsWhatRepetitionsShow) {
  // B: A at half level with as much noise of its own, 40 dB below and at one level.
  for (const double own_db : {-40.0, 0.0}) {
    const double own = ratio_from_db(own_db), level = 0.5 * std::sqrt(1 + own * own),
                 correlation = 1 / std::sqrt(1 + own * own),
                 sum = std::sqrt((1 + level * level + 2 * level * correlation) / 4 /
                                 (0.5 * (1 + level * level)));
    Repetitions seen({{"level_difference_db", db_from_ratio(level)},
                      {"correlation", correlation},
                      {"mono_sum_loss_db", db_from_ratio(sum)}},
                     std::nullopt);
    for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(repetitions(60)); ++seed) {
      const auto x = white(1.7, -30, 20000 + seed), add = white(1.7, -30, 40000 + seed);
      std::vector<double> y(x.size());
      for (std::size_t n = 0; n < x.size(); ++n) y[n] = 0.5 * (x[n] + own * add[n]);
      const Audio a = audio_of(x, kRate), b = audio_of(y, kRate);
      MemorySource from(a), against(b);
      seen.add(pair_sheet(measure_pair(taken(from), taken(against), {}), {}, "a", "b"));
    }
    seen.expect_honest(std::to_string(own_db) + " dB");
  }
}

TEST(PairUncertainty, OfAPhaseComesFromTheCoherence) {
  const int kPairs = repetitions(100);
  std::map<int, int> within;
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(kPairs); ++seed) {
    const auto x = white(1, -30, 60000 + seed), add = white(1, -40, 80000 + seed);
    std::vector<double> y(x.size());
    for (std::size_t n = 0; n < x.size(); ++n) y[n] = x[n] + add[n];
    const Audio a = audio_of(x, kRate), b = audio_of(y, kRate);
    MemorySource from(a), against(b);
    for (const PairBand& band : measure_pair(taken(from), taken(against), {}).bands)
      for (const int hz : {125, 1000, 8000})
        if (std::abs(band.hz / hz - 1) < 0.02)
          within[hz] += std::abs(band.phase_deg) <= band.phase_uncertainty_deg;
  }
  for (const auto& [hz, count] : within) {
    tell_coverage("phase of pair", std::to_string(hz) + " Hz", count, kPairs);
    EXPECT_GE(count, 0.93 * kPairs - 8) << hz;
    EXPECT_LE(count, 0.98 * kPairs + 5) << hz;
  }
}

}  // namespace
}  // namespace wavicon::level_uncertainty_test
