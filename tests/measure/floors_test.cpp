// SPDX-License-Identifier: MIT
// Floors, bounds, spreads and conditions are readings too: each against a closed form, or a signal built for
// it.

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/measure/latency/latency.hpp"
#include "wavicon/measure/levels/levels.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/measure/noise/noise.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/measure/response/response.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"

namespace wavicon::floors_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;

double condition_of(const Reading& reading, const std::string& name) {
  const ConditionValue* value = find_condition(reading, name);
  EXPECT_NE(value, nullptr) << reading.name << " has no " << name;
  return value == nullptr ? NAN : std::get<double>(*value);
}

double value_of(const Sheet& sheet, const std::string& name, int channel = 0) {
  const Reading* reading = find_reading(sheet, name, channel);
  if (reading == nullptr) reading = find_reading(sheet, name, std::nullopt);
  EXPECT_NE(reading, nullptr) << name;
  return reading != nullptr && reading->value ? *reading->value : NAN;
}

// The spread that is stated is the one that repetition shows.
TEST(Floors, TheSpreadOfNoiseIsWhatRepetitionsShow) {
  constexpr int kSeeds = 60;
  double sum = 0, squares = 0, stated = 0;
  for (int seed = 0; seed < kSeeds; ++seed) {
    const Audio audio = audio_of(
        noise(static_cast<std::size_t>(4 * kRate), -60, 300 + static_cast<std::uint64_t>(seed)), kRate);
    const auto result = measure_noise(taken(audio));
    const double db = db_from_ratio(result.channels[0].noise_rms);
    sum += db;
    squares += db * db;
    stated = result.spread_db;
  }
  const double spread = std::sqrt(squares / kSeeds - sum / kSeeds * (sum / kSeeds));
  // The windows see a little less than all of the time.
  EXPECT_GT(stated, 4.34 / std::sqrt(19980 * 4.0));
  EXPECT_LT(stated, 1.1 * 4.34 / std::sqrt(19980 * 4.0));
  EXPECT_GT(spread, 0.75 * stated);
  EXPECT_LT(spread, 1.4 * stated) << "the window takes a part of the time away";
}

TEST(Floors, TheFloorOfNoiseIsTheRoundingOfItsFormat) {
  for (const auto& [format, bit_count] : {std::pair{SampleFormat::pcm16, 16}, {SampleFormat::pcm24, 24}}) {
    const Audio audio = audio_of(noise(96000, -60, 5), kRate);
    const Sheet sheet = noise_sheet(measure_noise(taken(audio, format)), {});
    const Reading* noise_dbfs = find_reading(sheet, "noise_dbfs", 0);
    ASSERT_TRUE(noise_dbfs->floor);
    // Rounding error is uniform over a step, spread evenly up to half the rate.
    const double step = std::exp2(1 - bit_count), share = 19980.0 / 24000;
    EXPECT_NEAR(*noise_dbfs->floor, 20 * std::log10(step / std::sqrt(12) * std::sqrt(share)), 0.02)
        << bit_count;
    const Sheet levels = levels_sheet(measure_levels(taken(audio, format)), {});
    EXPECT_NEAR(*find_reading(levels, "rms_dbfs", 0)->floor, 20 * std::log10(step / std::sqrt(12)), 1e-6);
  }
}

// A mains line below the bound is not seen, one above it is.
TEST(Floors, TheBoundOfMainsIsWhereLinesBegin) {
  const Signal quiet = noise(static_cast<std::size_t>(5 * kRate), -70, 8);
  const double bound = measure_noise(taken(audio_of(quiet, kRate))).channels[0].mains_bound;
  ASSERT_GT(bound, 0);
  const auto lines_with = [&](double amplitude) {
    Signal x = quiet;
    for (std::size_t n = 0; n < x.size(); ++n)
      x[n] += amplitude * exact_sine(50, kRate, static_cast<std::int64_t>(n));
    return measure_noise(taken(audio_of(x, kRate))).channels[0].mains.size();
  };
  EXPECT_EQ(lines_with(0.4 * bound), 0U);
  EXPECT_GE(lines_with(1.6 * bound), 1U);
  EXPECT_EQ(lines_with(0.7 * bound), 0U);
}

// Terhardt 1979: 3.64·f^-0.8 - 6.5·exp(-0.6·(f - 3.3)²) + 0.001·f⁴, f in kHz, computed here anew.
TEST(Floors, TheHintOnHearingUsesTheThresholdOfHearing) {
  Recipe recipe{.sample_rate_hz = kRate, .marks = false};
  recipe.parts.push_back({.kind = Sweep{.from_hz = 200, .to_hz = 20000, .seconds = 4, .level_dbfs = -3}});
  Stimulus stimulus(recipe);
  Signal y = rendered(stimulus);
  for (double& v : y) v -= 0.2 * v * v * v;
  const Audio audio = audio_of(y, kRate);
  MemorySource source(audio);
  for (const double band_to : {20000.0, 1000.0}) {  // where the threshold is low, and where it is high
    const auto result = measure_aliasing(played(source, stimulus, Take{}), 0, {.band_to_hz = band_to});
    const FoldedOrder& worst = result.channels[0].folded.front();
    const double khz = worst.hz / 1000,
                 threshold = 3.64 * std::pow(khz, -0.8) - 6.5 * std::exp(-0.6 * (khz - 3.3) * (khz - 3.3)) +
                             1e-3 * std::pow(khz, 4),
                 over = 100 + 20 * std::log10(worst.amplitude) - threshold;
    std::string text;
    for (const Finding& f : aliasing_sheet(result, {}).findings)
      if (f.code == FindingCode::detail && f.text.find("threshold of hearing") != std::string::npos)
        text = f.text;
    char expected[64];
    std::snprintf(expected, sizeof expected, "%.0f dB %s the threshold", std::abs(over),
                  over > 0 ? "above" : "below");
    EXPECT_HAS(text, expected) << worst.hz << " Hz";
  }
}

TEST(Floors, ABoundOfThdIsABoundInTheSheet) {
  Audio audio(kRate, 1, 48000);
  const Quantiser quantiser(SampleFormat::pcm24, true, 3);
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] = quantiser.value(0.5 * exact_sine(997.3, kRate, n), 0, n);
  const Sheet clean = harmonics_sheet(measure_harmonics(taken(audio, SampleFormat::pcm24)), {});
  for (const char* name : {"thd_db", "thd_percent", "h2_dbc", "h7_dbc"}) {
    EXPECT_TRUE(find_reading(clean, name, 0)->bound) << name;
    EXPECT_TRUE(find_reading(clean, name, 0)->floor) << name;
  }
  EXPECT_NEAR(*find_reading(clean, "thd_percent", 0)->floor,
              100 * std::pow(10, *find_reading(clean, "thd_db", 0)->floor / 20), 1e-12);
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] += 0.01 * exact_sine(2 * 997.3, kRate, n);
  const Sheet dirty = harmonics_sheet(measure_harmonics(taken(audio, SampleFormat::pcm24)), {});
  for (const char* name : {"thd_db", "thd_percent", "h2_dbc"})
    EXPECT_FALSE(find_reading(dirty, name, 0)->bound) << name;
  EXPECT_NEAR(condition_of(*find_reading(dirty, "thd_db", 0), "level_dbfs"), 20 * std::log10(0.5), 0.001);
  // Ideal TPDF-dithered 24 bits: THD+N's floor is that of the dither, -144.49 + 4.77 - 3.01 dB re full scale
  // at -6 dBFS.
  EXPECT_NEAR(*find_reading(dirty, "thd_n_db", 0)->floor,
              20 * std::log10(std::exp2(-23) / 2 / (0.5 / std::numbers::sqrt2) * std::sqrt(19980.0 / 24000)),
              0.15);
}

// A sine of 997 Hz and -20 dBFS in one channel reads -23.0 LUFS: BS.1770 is made so.
TEST(Floors, LoudnessOfAResidualIsThatOfBs1770) {
  const Signal& x = programme("chamber", kRate, 6);
  Signal y = x;
  for (std::size_t n = 0; n < y.size(); ++n)
    y[n] += 0.001 * exact_sine(997, kRate, static_cast<std::int64_t>(n));
  const Sheet sheet =
      null_sheet(measure_null(taken(audio_of(x, kRate)), taken(audio_of(y, kRate)),
                              {.delay_samples = 0, .drift_ppm = 0, .gain_db = 0, .polarity = 1}),
                 {}, {});
  EXPECT_NEAR(value_of(sheet, "residual_rms_dbfs"), -63.01, 0.01);
  EXPECT_NEAR(value_of(sheet, "residual_lufs"), -63.01, 0.05);
}

// A stimulus of 44.1 kHz that was played as 48 kHz: its tone is looked for where it is then.
TEST(Floors, APartPlayedTooFastIsMeasuredWhereItIs) {
  Recipe recipe{.sample_rate_hz = 44100, .silence_before_s = 0.5, .silence_after_s = 0.5};
  recipe.parts.push_back({.name = "hush", .kind = Silence{.seconds = 1}});
  recipe.parts.push_back(
      {.name = "tone", .kind = Tone{.frequency_hz = 997, .level_dbfs = -12, .seconds = 2}});
  recipe.parts.push_back({.name = "two", .kind = TwoTone{}});
  const auto stimulus = std::make_shared<Stimulus>(recipe);
  Signal x = rendered(*stimulus);
  const Signal hiss = noise(x.size(), -100, 4);
  x = added(x, hiss);
  const auto capture =
      judge(audio_of(x, kRate), SampleFormat::float64, {stimulus, std::nullopt}, {.despite_faults = true});
  ASSERT_NEAR(capture.take().rate_ratio, 48.0 / 44.1, 1e-6);
  const auto sheet_of = [&](const char* name, const char* part) {
    const auto measurement = find_measurement(measurements(), name)->make();
    MeasureRequest request;
    request.selection.part = part;
    return measured(*measurement, request, capture).front();
  };
  const Sheet harmonics = sheet_of("harmonics", "tone");
  EXPECT_NEAR(value_of(harmonics, "fundamental_hz"), 997 * 48.0 / 44.1, 0.01);
  EXPECT_NEAR(value_of(harmonics, "fundamental_dbfs"), -12, 0.01);
  // The noise under it: the tone is cut out, not taken for noise.
  EXPECT_NEAR(value_of(sheet_of("noise", "tone"), "noise_dbfs"),
              value_of(sheet_of("noise", "hush"), "noise_dbfs"), 0.5);
  EXPECT_LT(value_of(sheet_of("noise", "tone"), "noise_dbfs"), -98);
  // Where the part is, in the capture's seconds.
  const double from_s = capture.seconds_of(static_cast<double>(stimulus->parts()[1].first_frame));
  EXPECT_NEAR(condition_of(*find_reading(harmonics, "thd_db", 0), "from_s"), from_s, 0.001);
  EXPECT_GT(from_s, 1.3);
  const double two_s = capture.seconds_of(static_cast<double>(stimulus->parts()[2].first_frame));
  const Sheet two = sheet_of("harmonics", "two");
  EXPECT_EQ(two.measurement, "intermodulation");
  EXPECT_NEAR(condition_of(two.readings.front(), "from_s"), two_s + 0.15, 0.15);
  for (const PartSheet& part : measure_parts(capture)) {
    ASSERT_EQ(part.problem, "") << part.measurement;
    const double start = capture.seconds_of(static_cast<double>(stimulus->parts()[part.part].first_frame));
    EXPECT_NEAR(condition_of(part.sheet.readings.back(), "from_s"), start, 0.001) << part.measurement;
  }
}

TEST(Floors, ConditionsOfABandAreThoseThatWereMeasured) {
  // White noise: in half the band half the power, over an ideal converter in the same band no other figure.
  const Audio audio = audio_of(noise(static_cast<std::size_t>(8 * kRate), -80, 6), kRate);
  const Sheet wide = noise_sheet(measure_noise(taken(audio), {.band_from_hz = 0, .band_to_hz = 24000}), {}),
              narrow =
                  noise_sheet(measure_noise(taken(audio), {.band_from_hz = 2000, .band_to_hz = 4000}), {});
  EXPECT_NEAR(value_of(narrow, "noise_dbfs") - value_of(wide, "noise_dbfs"), 10 * std::log10(2000.0 / 24000),
              0.1);
  for (const char* name : {"over_16_bit_db", "over_24_bit_db"})
    EXPECT_NEAR(value_of(narrow, name), value_of(wide, name), 0.1) << name;
  // An ideal 16-bit converter is 98.08 dB below a full-scale sine; noise of -80 dBFS RMS is 76.99 dB below
  // it.
  EXPECT_NEAR(value_of(wide, "over_16_bit_db"), 76.99 - 98.08, 0.1);
  for (const Sheet* sheet : {&wide, &narrow}) {
    const ConditionValue* band = find_condition(*find_reading(*sheet, "over_24_bit_db", 0), "bandwidth_hz");
    EXPECT_EQ(std::get<std::vector<double>>(*band).front(), sheet == &wide ? 0 : 2000);
  }
}

// The floor of what is left is that of the depth, at A's level.
TEST(Floors, TheFloorOfANullStandsUnderDepthAndResidualAlike) {
  const Signal& x = programme("chamber", kRate, 4);
  Signal y = x;
  const Quantiser quantiser(SampleFormat::pcm16, true, 3);
  for (std::size_t n = 0; n < y.size(); ++n) y[n] = quantiser.value(y[n], 0, static_cast<std::int64_t>(n));
  const Sheet sheet =
      null_sheet(measure_null(taken(audio_of(x, kRate)), taken(audio_of(y, kRate), SampleFormat::pcm16),
                              {.delay_samples = 0, .drift_ppm = 0, .gain_db = 0, .polarity = 1}),
                 {}, {});
  const Reading *depth = find_reading(sheet, "null_depth_db", 0),
                *residual = find_reading(sheet, "residual_rms_dbfs", 0);
  ASSERT_TRUE(depth->floor && residual->floor);
  EXPECT_NEAR(*residual->floor, *depth->floor + condition_of(*depth, "reference_dbfs"), 1e-9);
  // TPDF dither and rounding: a quarter of a squared step.
  EXPECT_NEAR(*residual->value, 20 * std::log10(0.5 * std::exp2(-15)), 0.1);
}

// IEC 61672-1: A takes 19.1 dB off at 100 Hz, and nothing at 1 kHz.
TEST(Floors, AWeightedDepthWeighsBothSides) {
  Audio a(kRate, 1, static_cast<std::int64_t>(6 * kRate)), b = a;
  for (std::int64_t n = 0; n < a.frames(); ++n) {
    const double x = 0.5 * exact_sine(1000, kRate, n);
    a.channel(0)[static_cast<std::size_t>(n)] = x;
    b.channel(0)[static_cast<std::size_t>(n)] = x + 0.001 * exact_sine(100, kRate, n);
  }
  const Sheet sheet = null_sheet(
      measure_null(taken(a), taken(b), {.delay_samples = 0, .drift_ppm = 0, .gain_db = 0, .polarity = 1}), {},
      {});
  EXPECT_NEAR(value_of(sheet, "null_depth_db"), 20 * std::log10(0.002), 0.01);
  EXPECT_NEAR(value_of(sheet, "null_depth_a_db"), 20 * std::log10(0.002) - 19.1, 0.15);
}

// What comes back untouched reads no more than its own floor, and is called a bound.
TEST(Floors, AliasingOfNothingIsItsFloor) {
  Recipe recipe{.sample_rate_hz = kRate, .marks = false};
  recipe.parts.push_back({.kind = Sweep{.from_hz = 200, .to_hz = 20000, .seconds = 4, .level_dbfs = -6}});
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus);
  Audio audio(kRate, 1, static_cast<std::int64_t>(x.size()));
  const Quantiser quantiser(SampleFormat::pcm24, true, 11);
  for (std::size_t n = 0; n < x.size(); ++n)
    audio.channel(0)[n] = quantiser.value(x[n], 0, static_cast<std::int64_t>(n));
  MemorySource source(audio);
  const Sheet sheet =
      aliasing_sheet(measure_aliasing(played(source, stimulus, Take{}, SampleFormat::pcm24), 0), {});
  const Reading* worst = find_reading(sheet, "worst_alias_dbc", 0);
  ASSERT_TRUE(worst != nullptr && worst->value && worst->floor);
  EXPECT_TRUE(worst->bound);
  EXPECT_NEAR(*worst->value, *worst->floor, 3);
}

TEST(Floors, TheSpreadOfABandIsThatOfItsWidthAndTime) {
  const Audio audio = audio_of(noise(static_cast<std::size_t>(8 * kRate), -40, 9), kRate);
  const Sheet sheet = spectrum_sheet(measure_spectrum(taken(audio), {.bands_per_octave = 3}), {});
  std::size_t seen = 0;
  for (const Reading& r : sheet.readings)
    if (r.name == "band_dbfs" && condition_of(r, "centre_hz") > 900) {
      const double width = condition_of(r, "centre_hz") * (std::pow(10, 0.05) - std::pow(10, -0.05));
      if (condition_of(r, "centre_hz") * std::pow(10, 0.05) > kRate / 2) continue;
      // The ends of the stretch count less, and the density's own scatter for some.
      EXPECT_NEAR(condition_of(r, "spread_db"), 4.34 / std::sqrt(width * 8),
                  0.06 * 4.34 / std::sqrt(width * 8));
      ++seen;
    }
  EXPECT_GT(seen, 10U);
}

// White noise is weighted as white rounding error is.
TEST(Floors, WeightedFloorsAreWeightedAsTheNoiseIs) {
  const Audio audio = audio_of(noise(static_cast<std::size_t>(8 * kRate), -60, 12), kRate);
  const Sheet sheet = noise_sheet(measure_noise(taken(audio, SampleFormat::pcm24)), {});
  const Reading* flat = find_reading(sheet, "noise_dbfs", 0);
  for (const char* name : {"noise_a_dbfs", "noise_468_dbfs"}) {
    const Reading* weighted = find_reading(sheet, name, 0);
    ASSERT_TRUE(weighted->floor) << name;
    EXPECT_NEAR(*weighted->floor - *flat->floor, *weighted->value - *flat->value, 0.1) << name;
  }
  EXPECT_NEAR(condition_of(*flat, "duration_s"), 8, 1e-9);
  EXPECT_NEAR(condition_of(*flat, "from_s"), 0, 1e-9);
}

// Two marks that lie 0.3 samples apart from each other: half of it on each side of the latency.
TEST(Floors, TheSpreadOfALatencyIsHalfOfWhatMarksDiffer) {
  Recipe recipe{.sample_rate_hz = kRate, .silence_before_s = 0.2, .silence_after_s = 0.2};
  recipe.parts.push_back({.kind = Silence{.seconds = 1}});
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus), late = moved(x, 0.3);
  Signal y = x;
  std::copy(late.begin() + static_cast<std::ptrdiff_t>(x.size() / 2), late.end(),
            y.begin() + static_cast<std::ptrdiff_t>(x.size() / 2));
  const Audio a = audio_of(x, kRate), b = audio_of(y, kRate);
  MemorySource of_a(a), of_b(b);
  const auto result = measure_latency(holding(of_a, stimulus), holding(of_b, stimulus));
  ASSERT_TRUE(result.by_marks);
  EXPECT_NEAR(result.latency_samples, 0.15, 0.005);
  EXPECT_NEAR(result.spread_samples, 0.15, 0.005);
}

TEST(Floors, AToneThatNobodyPlayedIsNotCutOut) {
  Audio audio(kRate, 1, static_cast<std::int64_t>(4 * kRate));
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] =
        0.1 * exact_sine(440, kRate, n) + 1e-5 * gaussian(3, static_cast<std::uint64_t>(n));
  EXPECT_HAS(message_of(ErrorCode::bad_input, [&] { (void)measure_noise(taken(audio), {.tone_hz = 1000}); }),
             "no tone stands out of the noise near 1000 Hz");
  EXPECT_NEAR(*measure_noise(taken(audio), {.tone_hz = 441}).channels[0].tone_hz, 440, 0.1);
  const Sheet played = noise_sheet(measure_noise(taken(audio), {.played_tone_hz = 1000}), {});
  EXPECT_TRUE(std::any_of(played.findings.begin(), played.findings.end(), [](const Finding& f) {
    return f.code == FindingCode::nothing_found && f.severity == Severity::warning;
  }));
}

}  // namespace
}  // namespace wavicon::floors_test
