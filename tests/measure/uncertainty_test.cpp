// SPDX-License-Identifier: MIT
// Uncertainties by repetition: of many captures whose truth is known, 93 to 98 of 100 readings lie within
// theirs.
#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "measure/repetitions.hpp"
#include "wavicon/audio/weighting.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/measure/noise/noise.hpp"
#include "wavicon/measure/null/null.hpp"

namespace wavicon::uncertainty_test {
namespace {

using namespace testing;

double weighted_band(double rate, double (*weight)(double)) {
  double sum = 0;
  for (double hz = 20.5; hz < 20000; ++hz) sum += weight(hz);
  return db_from_power_ratio(sum / (rate / 2));
}

TEST(Uncertainty, OfNoiseIsWhatRepetitionsShow) {
  const double rate = 48000;
  for (const double seconds : {0.4, 1.0, 3.0}) {
    Repetitions seen(
        {{"noise_dbfs", -60 + db_from_power_ratio(19980 / 24000.0)},
         {"noise_a_dbfs", -60 + weighted_band(rate, a_weight)},
         {"dynamic_range_db", 60 - db_from_power_ratio(19980 / 24000.0) - db_from_ratio(std::sqrt(2.0))}});
    for (std::uint64_t seed = 0; seed < kSeeds; ++seed)
      seen.add(noise_sheet(measure_noise(taken(audio_of(
                               noise(static_cast<std::size_t>(seconds * rate), -60, 100 + seed), rate))),
                           {}));
    seen.expect_honest(std::to_string(seconds) + " s");
  }
}

// A line of hum is sure; what it stands in is not.
TEST(Uncertainty, OfHumComesFromTheNoiseBesideIt) {
  const double rate = 48000;
  Repetitions seen({{"mains_dbfs", -50}, {"mains_hz", 50}});
  for (std::uint64_t seed = 0; seed < kSeeds; ++seed) {
    Signal x = noise(static_cast<std::size_t>(3 * rate), -50, 700 + seed);
    for (std::size_t n = 0; n < x.size(); ++n)
      x[n] += ratio_from_db(-50) * exact_sine(50, rate, static_cast<std::int64_t>(n), 0.1);
    seen.add(noise_sheet(measure_noise(taken(audio_of(x, rate))), {}));
  }
  seen.expect_honest("hum");
}

TEST(Uncertainty, OfHarmonicsIsWhatRepetitionsShow) {
  const double rate = 48000, hz = 997.3;
  for (const double seconds : {0.1, 0.6, 2.0}) {
    const double noise_dbfs = seconds < 0.5 ? -75 : -65, h2 = ratio_from_db(-56), h3 = ratio_from_db(-62);
    // Of white noise what lies in the band.
    const double in_band = ratio_from_db(noise_dbfs) * std::sqrt(19980 / 24000.0), a = ratio_from_db(-10);
    const double thd = std::hypot(h2, h3);
    Repetitions seen({{"fundamental_hz", hz},
                      {"fundamental_dbfs", -10},
                      {"h2_dbc", -56},
                      {"h3_dbc", -62},
                      {"thd_db", db_from_ratio(thd)},
                      {"thd_n_db", db_from_ratio(std::hypot(thd, std::sqrt(2.0) * in_band / a))},
                      {"residual_noise_dbfs", db_from_ratio(in_band)},
                      {"h2_phase_deg", 30},
                      {"even_over_odd_db", 6}});
    for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(repetitions(kSeeds / 2)); ++seed) {
      Signal x = noise(static_cast<std::size_t>(seconds * rate), noise_dbfs, 1100 + seed);
      for (std::size_t n = 0; n < x.size(); ++n) {
        const auto at = static_cast<std::int64_t>(n);
        x[n] += a * (exact_sine(hz, rate, at) + h2 * exact_sine(2 * hz, rate, at, 30.0 / 360) +
                     h3 * exact_sine(3 * hz, rate, at, 0.3));
      }
      seen.add(harmonics_sheet(measure_harmonics(taken(audio_of(x, rate)), {.highest_order = 3}), {}));
    }
    seen.expect_honest(std::to_string(seconds) + " s");
  }
}

TEST(Uncertainty, OfANullIsWhatRepetitionsShow) {
  const double rate = 48000;
  const Signal& x = programme("chamber", rate, 3);
  double squares = 0;
  for (const double v : x) squares += v * v;
  const double level_db = db_from_power_ratio(squares / static_cast<double>(x.size()));
  const int kNulls = repetitions(30);
  // Between samples the delay has to be told; at whole ones nothing of the noise is lost.
  for (const double late : {37.43, 37.0}) {
    const Signal clean = scaled(moved(x, late), 0.8);
    int delays = 0, depths = 0, gains = 0;
    for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(kNulls); ++seed) {
      const Audio a = audio_of(x, rate),
                  b = audio_of(added(clean, noise(x.size(), level_db - 30, 2100 + seed)), rate);
      const Sheet sheet = null_sheet(measure_null(taken(a), taken(b), {.drift_ppm = 0}), {}, {});
      const Reading *gain = find_reading(sheet, "gain_db", 0),
                    *depth = find_reading(sheet, "null_depth_db", 0),
                    *delay = find_reading(sheet, "delay_samples", std::nullopt);
      ASSERT_TRUE(gain != nullptr && depth != nullptr && delay != nullptr);
      depths += std::abs(*depth->value + 30 + db_from_ratio(0.8)) <= *depth->uncertainty;
      delays += std::abs(*delay->value - late) <= *delay->uncertainty;
      gains += std::abs(*gain->value - db_from_ratio(0.8)) <= *gain->uncertainty;
      EXPECT_LT(*delay->uncertainty, 0.05);
      EXPECT_LT(*depth->uncertainty, 0.1);
      EXPECT_LT(*gain->uncertainty, 0.05);
    }
    const std::string what = "null, late by " + std::to_string(late);
    tell_coverage(what, "gain_db", gains, kNulls);
    tell_coverage(what, "delay_samples", delays, kNulls);
    EXPECT_GE(gains, kNulls * 85 / 100) << late;
    EXPECT_GE(delays, kNulls * 85 / 100) << late;
    if (late == 37) {
      tell_coverage(what, "null_depth_db", depths, kNulls);
      EXPECT_GE(depths, kNulls * 85 / 100);
    }
  }
}

}  // namespace
}  // namespace wavicon::uncertainty_test
