// SPDX-License-Identifier: MIT
#include "wavicon/measure/levels/levels.hpp"

#include "measure/judged.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"

namespace wavicon::levels_test {
namespace {

using namespace testing;

constexpr double kRmsDb = 1e-9;      // whole periods of a sine
constexpr double kLoudnessLu = 0.1;  // EBU Tech 3341, minimum requirements (to verify)
constexpr double kRangeLu = 1;       // EBU Tech 3342 (to verify)
constexpr double kTruePeakOver = 0.2, kTruePeakUnder = 0.4;  // EBU Tech 3341, true-peak cases (to verify)

LevelsResult measured(const Audio& audio, const LevelsOptions& options = {}) {
  MemorySource source(audio);
  return measure_levels(taken(source), options);
}

// Stretches of a 1 kHz sine, the same in all channels: level in dBFS, seconds.
Audio sines(const std::vector<std::pair<double, double>>& stretches, int channels = 2, double rate = 48000) {
  std::int64_t frames = 0;
  for (const auto& [level, seconds] : stretches) frames += std::llround(seconds * rate);
  Audio audio(rate, channels, frames);
  std::int64_t n = 0;
  for (const auto& [level, seconds] : stretches)
    for (const std::int64_t end = n + std::llround(seconds * rate); n < end; ++n)
      for (int c = 0; c < channels; ++c)
        audio.channel(c)[static_cast<std::size_t>(n)] = ratio_from_db(level) * exact_sine(1000, rate, n);
  return audio;
}

TEST(Levels, RmsPeakCrestAndDcOfASine) {
  for (const double rate : {44100.0, 48000.0, 192000.0, 768000.0})
    for (const double level : {0.0, -20.0, -100.0}) {
      Audio audio(rate, 2, static_cast<std::int64_t>(rate));
      for (std::int64_t n = 0; n < audio.frames(); ++n) {
        audio.channel(0)[static_cast<std::size_t>(n)] = ratio_from_db(level) * exact_sine(997, rate, n);
        audio.channel(1)[static_cast<std::size_t>(n)] = 0.25 + 0.1 * exact_sine(331, rate, n);
      }
      const auto result = measured(audio, {.true_peak = false, .loudness = false});
      EXPECT_NEAR(db_from_ratio(result.channels[0].rms) - level, -db_from_ratio(std::sqrt(2.0)), kRmsDb)
          << rate;
      EXPECT_NEAR(result.channels[0].dc, 0, 1e-12);
      EXPECT_NEAR(result.channels[1].dc, 0.25, 1e-12);
      EXPECT_NEAR(result.channels[1].rms, std::sqrt(0.0625 + 0.005), 1e-12);
      const Sheet sheet = levels_sheet(result, {.sample_rate_hz = rate, .channels = 2});
      EXPECT_NEAR(*find_reading(sheet, "crest_factor_db", 0)->value, 3.0103, 1e-3);
      EXPECT_EQ(find_reading(sheet, "true_peak_dbtp", 0), nullptr);
      EXPECT_NEAR(*find_reading(sheet, "dc_offset_dbfs", 1)->value, -12.0412, 1e-4);
    }
}

TEST(Levels, BothReferencesOfRmsAreStated) {
  const Audio audio = sines({{0, 1}}, 1);
  for (const auto reference : {RmsReference::square, RmsReference::sine}) {
    const Sheet sheet = levels_sheet(measured(audio, {.rms_reference = reference}), {});
    const Reading& rms = *find_reading(sheet, "rms_dbfs", 0);
    EXPECT_NEAR(*rms.value, reference == RmsReference::sine ? 0 : -3.0103, 1e-4);
    EXPECT_EQ(std::get<std::string>(*find_condition(rms, "rms_reference")), name_of(reference));
  }
}

TEST(Levels, AreInVoltsWhereFullScaleIsKnown) {
  Audio audio(48000, 1, 48000);
  for (std::size_t n = 0; n < 48000; ++n)
    audio.channel(0)[n] = 0.5 * std::sin(2 * M_PI * 1000 / 48000 * static_cast<double>(n));
  MemorySource source(audio);
  const Sheet sheet = levels_sheet(measure_levels(taken(source), {.full_scale_vrms = 2.0}), {});
  EXPECT_NEAR(*find_reading(sheet, "rms_v", 0)->value, 1.0, 1e-9);
  EXPECT_NEAR(*find_reading(sheet, "peak_v", 0)->value, std::sqrt(2.0), 1e-9);
  EXPECT_NEAR(*find_reading(sheet, "rms_dbu", 0)->value, db_from_ratio(1 / kVoltsAt0Dbu), 1e-9);
  const Sheet lines =
      spectrum_sheet(measure_spectrum(taken(source), {.bands_per_octave = 1, .full_scale_vrms = 2.0}), {});
  EXPECT_NEAR(*find_reading(lines, "line_dbu", 0)->value, db_from_ratio(1 / kVoltsAt0Dbu), 0.01);
  MemorySource again(audio);
  EXPECT_EQ(find_reading(levels_sheet(measure_levels(taken(again)), {}), "rms_v", 0), nullptr);
}

TEST(Levels, LoudnessOfTheSignalsThatEbuTech3341Describes) {
  struct Case {
    std::vector<std::pair<double, double>> stretches;
    double lufs;
  };
  for (const Case& c :
       {Case{{{-23, 20}}, -23}, Case{{{-33, 20}}, -33}, Case{{{-36, 10}, {-23, 60}, {-36, 10}}, -23},
        Case{{{-72, 10}, {-36, 10}, {-23, 60}, {-36, 10}, {-72, 10}}, -23},
        Case{{{-26, 20}, {-20, 20.1}, {-26, 20}}, -23}}) {
    const auto loudness = measured(sines(c.stretches), {.true_peak = false}).loudness;
    EXPECT_NEAR(loudness.integrated_lufs.value_or(0), c.lufs, kLoudnessLu);
  }
  const auto steady = measured(sines({{-23, 20}}), {.true_peak = false}).loudness;
  EXPECT_NEAR(*steady.momentary_max_lufs, -23, kLoudnessLu);
  EXPECT_NEAR(*steady.short_term_max_lufs, -23, kLoudnessLu);
  EXPECT_EQ(steady.momentary_lufs.size(), 197U);
}

TEST(Levels, LoudnessRangeOfTheSignalsThatEbuTech3342Describes) {
  for (const auto& [soft, range] : {std::pair{-30.0, 10.0}, {-15.0, 5.0}, {-40.0, 20.0}})
    EXPECT_NEAR(*measured(sines({{-20, 20}, {soft, 20}}), {.true_peak = false}).loudness.range_lu, range,
                kRangeLu);
}

TEST(Levels, TruePeakBetweenTheSamples) {
  // A quarter of the rate at 0, 45, 60 and 67.5 degrees, half of full scale: no sample shows the crest.
  for (const double degrees : {0.0, 45.0, 60.0, 67.5}) {
    Audio audio(48000, 1, 48000);
    for (std::int64_t n = 0; n < audio.frames(); ++n)
      audio.channel(0)[static_cast<std::size_t>(n)] =
          0.5 * exact_sine(12000, 48000, n, degrees / 360) * std::min(1.0, static_cast<double>(n) / 2400);
    const double true_peak_db = db_from_ratio(measured(audio).channels[0].true_peak);
    EXPECT_LE(true_peak_db, -6.02 + kTruePeakOver) << degrees;
    EXPECT_GE(true_peak_db, -6.02 - kTruePeakUnder) << degrees;
  }
}

TEST(Levels, RmsOverTimeFollowsTheLevel) {
  const auto result =
      measured(sines({{-20, 1}, {-40, 1}}, 1), {.window_s = 0.2, .hop_s = 0.05, .loudness = false});
  const auto& trace = result.channels[0].rms_over_time;
  ASSERT_EQ(trace.size(), 37U);
  EXPECT_NEAR(db_from_ratio(trace[0]), -23.01, 0.01);
  EXPECT_NEAR(db_from_ratio(trace.back()), -43.01, 0.01);
  const Sheet sheet = levels_sheet(result, {});
  EXPECT_EQ(sheet.curves[0].x.front(), 0.2);
  EXPECT_NEAR(sheet.curves[0].x.back(), 2.0, 1e-9);
}

TEST(Levels, TheSameForAnyBlocks) {
  Audio audio = sines({{-20, 4.3}}, 1, 44100);
  const auto whole = measured(audio);
  for (const std::size_t block : {1U, 777U}) {
    LevelMeter meter(1, 44100, {});
    for (std::size_t n = 0; n < static_cast<std::size_t>(audio.frames()); n += block)
      meter.push(std::as_const(audio).channel(0).subspan(
          n, std::min(block, static_cast<std::size_t>(audio.frames()) - n)));
    const auto pieces = meter.finish();
    EXPECT_NEAR(pieces.channels[0].rms, whole.channels[0].rms, 1e-13)
        << "only the order of additions differs";
    EXPECT_NEAR(*pieces.loudness.integrated_lufs, *whole.loudness.integrated_lufs, 1e-9);
    EXPECT_EQ(pieces.loudness.short_term_lufs.size(), whole.loudness.short_term_lufs.size());
  }
}

TEST(Levels, EdgesOfItsRange) {
  EXPECT_NE(message_of(ErrorCode::bad_input, [] { (void)measured(Audio(48000, 1, 0)); }).find("0 frames"),
            std::string::npos);
  Audio silent(48000, 2, 48000);
  const Sheet sheet = levels_sheet(measured(silent), {.channels = 2});
  for (const char* name : {"rms_dbfs", "peak_dbfs", "crest_factor_db"})
    EXPECT_FALSE(find_reading(sheet, name, 1)->value) << name;
  EXPECT_EQ(*find_reading(sheet, "rms", 1)->value, 0);
  EXPECT_FALSE(find_reading(sheet, "loudness_integrated_lufs", std::nullopt)->value);
  std::string text;
  for (const auto& finding : sheet.findings) text += finding.text;
  EXPECT_NE(text.find("silence has no level"), std::string::npos);
  EXPECT_NE(text.find("nothing is louder than -70 LUFS"), std::string::npos);
  silent.channel(1)[7] = NAN;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)measured(silent); })
                .find("NaN or infinity (channel 2, frame 7"),
            std::string::npos);
  Audio one(768000, 64, 1);
  one.channel(63)[0] = -0.5;
  EXPECT_EQ(measured(one).channels[63].peak, 0.5);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)measured(one, {.window_s = 0.1, .hop_s = 1}); })
                .find("a hop of 1 s"),
            std::string::npos);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)measured(one, {.from_s = 1}); }).find("is not within"),
      std::string::npos);
}

}  // namespace
}  // namespace wavicon::levels_test
