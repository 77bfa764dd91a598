// SPDX-License-Identifier: MIT
#include "wavicon/measure/spectrum/spectrum.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::spectrum_test {
namespace {

using namespace testing;

constexpr double kLevelDb = 0.01;

SpectrumResult measured(const Audio& audio, const SpectrumOptions& options = {}) {
  MemorySource source(audio);
  return measure_spectrum(taken(source), options);
}

Audio with_lines(double rate, double seconds, const std::vector<std::pair<double, double>>& lines,
                 int channels = 1) {
  Audio audio(rate, channels, static_cast<std::int64_t>(rate * seconds));
  for (int c = 0; c < channels; ++c)
    for (std::int64_t n = 0; n < audio.frames(); ++n) {
      double& x = audio.channel(c)[static_cast<std::size_t>(n)];
      x = 1e-7 * random_triangular(5, static_cast<std::uint64_t>(c), static_cast<std::uint64_t>(n));
      for (const auto& [hz, dbfs] : lines) x += ratio_from_db(dbfs) * exact_sine(hz, rate, n);
    }
  return audio;
}

TEST(Spectrum, LinesAreReadNamedAndPlaced) {
  for (const double rate : {44100.0, 48000.0, 96000.0}) {
    const double folded = std::abs(5 * 6000.7 - rate);
    std::vector<std::pair<double, double>> lines = {
        {6000.7, -6}, {12001.4, -40.5}, {50, -70}, {19500.3, -83}, {3333.3, -90}};
    if (rate < 60000) lines.emplace_back(folded, -77);
    const auto result = measured(with_lines(rate, 3, lines));
    for (const auto& [hz, dbfs] : lines) {
      const double at = hz;
      const auto& peaks = result.channels[0].peaks;
      const auto found =
          std::find_if(peaks.begin(), peaks.end(), [&](const auto& p) { return std::abs(p.hz - at) < 0.1; });
      ASSERT_NE(found, peaks.end()) << hz << " at " << rate;
      EXPECT_NEAR(db_from_ratio(found->peak), dbfs, kLevelDb) << hz;
      const std::string expected = hz == 6000.7    ? "tone"
                                   : hz == 12001.4 ? "harmonic 2"
                                   : hz == 50      ? "mains 50 Hz, line 1"
                                   : hz == 19500.3 ? "carrier"
                                   : hz == 3333.3  ? "line"
                                                   : "fold-back of order 5";
      EXPECT_EQ(found->guess, expected) << hz;
    }
    EXPECT_EQ(result.channels[0].peaks.size(), lines.size());
  }
}

TEST(Spectrum, CurvesReadASineAsItsLevelAndNoiseAsItsDensity) {
  const Audio sine = with_lines(48000, 3, {{1000, -20}});
  const auto amplitude = measured(sine);
  EXPECT_NEAR(db_from_ratio(
                  *std::max_element(amplitude.channels[0].level.begin(), amplitude.channels[0].level.end())),
              -20, 0.3);
  Audio noise(48000, 1, 48000 * 10);
  for (std::int64_t n = 0; n < noise.frames(); ++n)
    noise.channel(0)[static_cast<std::size_t>(n)] =
        std::sqrt(12.0) * 0.01 * (random_uniform(9, 0, static_cast<std::uint64_t>(n)) - 0.5);
  const auto density = measured(noise, {.density = true, .bands_per_octave = 3});
  const auto& c = density.channels[0];
  for (const SpectrumBand& band : c.bands) {
    if (band.centre_hz < 100) continue;
    const double width = band.centre_hz * (std::exp2(1 / 6.0) - std::exp2(-1 / 6.0));
    EXPECT_NEAR(db_from_ratio(band.rms), -40 + db_from_power_ratio(width / 24000),
                4 * 4.34 / std::sqrt(width * 10) + 0.05)
        << band.centre_hz;
  }
  EXPECT_TRUE(c.peaks.empty());
}

TEST(Spectrum, MidSideDcPeakHoldAndAverages) {
  Audio audio = with_lines(48000, 2, {{997, -20}}, 2);
  for (double& x : audio.channel(1)) x = -x;
  const auto sides = measured(audio, {.mid_side = true});
  EXPECT_LT(sides.channels[0].peaks.empty() ? 0 : sides.channels[0].peaks[0].peak, 1e-6);
  EXPECT_NEAR(db_from_ratio(sides.channels[1].peaks[0].peak), -20, kLevelDb);
  for (double& x : audio.channel(0)) x += 0.01;
  const auto offset = measured(audio, {.peak_hold = true, .remove_dc = true});
  EXPECT_NEAR(offset.channels[0].dc, 0.01, 1e-4);
  EXPECT_NEAR(offset.channels[1].dc, 0, 1e-6);
  EXPECT_GE(offset.channels[0].hz.front(), 5);
  EXPECT_EQ(offset.channels[0].held.size(), offset.channels[0].hz.size());
  std::string text;
  for (const auto& finding : spectrum_sheet(offset, {.channels = 2}).findings) text += finding.text;
  EXPECT_NE(text.find("is a DC offset of -40.0 dBFS"), std::string::npos) << text;
  EXPECT_EQ(measured(audio, {.averages = 2}).window_count, 2);
}

// Slower than the window is wide, a wobble has a constant's lobe; from window to window it moves.
TEST(Spectrum, AWobbleIsNoDcOffset) {
  for (const double hz : {0.3, 1.3, 4.0, 0.0}) {
    Audio audio = with_lines(48000, 5, {{440, -20}});
    for (std::int64_t n = 0; n < audio.frames(); ++n)
      audio.channel(0)[static_cast<std::size_t>(n)] +=
          0.02 * std::cos(2 * M_PI * hz * static_cast<double>(n) / 48000);
    const auto result = measured(audio, {});
    EXPECT_EQ(result.channels[0].constant, hz == 0) << hz;
    EXPECT_EQ(result.channels[0].wobbles, hz != 0) << hz;
    const double rms = hz == 0 ? 0.02 : 0.02 / std::sqrt(2.0);
    EXPECT_NEAR(db_from_ratio(result.channels[0].dc / rms), 0, hz == 0 ? 0.01 : 1.5) << hz;
    std::string text;
    for (const auto& finding : spectrum_sheet(result, {.channels = 1}).findings) text += finding.text;
    EXPECT_NE(text.find(hz == 0 ? "is a DC offset of -34.0 dBFS" : "is a wobble slower than"),
              std::string::npos)
        << text;
  }
}

TEST(Spectrum, EdgesOfItsRange) {
  EXPECT_NE(message_of(ErrorCode::bad_input, [] { (void)measured(Audio(48000, 1, 0)); }).find("0 frames"),
            std::string::npos);
  EXPECT_TRUE(measured(Audio(48000, 1, 1)).channels[0].silent);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [] { (void)measured(Audio(48000, 1, 9), {.mid_side = true}); })
          .find("need two channels"),
      std::string::npos);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [] { (void)measured(Audio(48000, 1, 9), {.bands_per_octave = 7}); })
          .find("7 bands per octave"),
      std::string::npos);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [] { (void)measured(Audio(48000, 1, 9), {.resolution_hz = 0}); })
          .find("resolution"),
      std::string::npos);
  Audio broken(768000, 2, 50000);
  broken.channel(1)[100] = NAN;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)measured(broken); }).find("channel 2, frame"),
            std::string::npos);
}

TEST(Spectrum, BandsOfPeriodicNoiseHaveNoSpreadOfTheirOwn) {
  // Pink: each third octave holds the same share of the power between the ends of the band.
  const double rate = 48000;
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back({.kind = Noise{.colour = "pink",
                                        .from_hz = 10,
                                        .to_hz = 24000,
                                        .period_s = 1.4,
                                        .level_dbfs = -20,
                                        .seconds = 5}});
  Stimulus stimulus(recipe);
  for (const double noise_db : {-300.0, -60.0}) {
    Audio audio(rate, 1, stimulus.frames());
    stimulus.render(0, 0, audio.channel(0));
    const auto beside = noise(audio.channel(0).size(), noise_db, 3);
    for (std::size_t n = 0; n < beside.size(); ++n) audio.channel(0)[n] += beside[n];
    MemorySource source(audio);
    const auto result = measure_spectrum(taken(source), {.bands_per_octave = 3, .period_frames = 65536});
    EXPECT_EQ(result.period_count, 2);
    ASSERT_GT(result.channels[0].bands.size(), 25U);
    const double share_db = db_from_power_ratio(std::log(std::exp2(1.0 / 3)) / std::log(24000.0 / 10));
    for (const SpectrumBand& band : result.channels[0].bands) {
      // Low down the lines are few: a sum of 1/f over them is not quite an integral.
      EXPECT_NEAR(db_from_ratio(band.rms), -20 + share_db,
                  band.centre_hz < 100 ? 0.05 : 0.005 + 4 * band.spread_db)
          << band.centre_hz;
      EXPECT_LT(band.spread_db, noise_db < -200 ? 1e-6 : 0.05) << band.centre_hz;
    }
    const Sheet sheet = spectrum_sheet(result, {.channels = 1});
    for (const Finding& finding : sheet.findings)
      EXPECT_EQ(finding.text.find("DC offset"), std::string::npos);
  }
  Audio shorter(rate, 1, 100000);
  MemorySource source(shorter);
  EXPECT_HAS(
      message_of(
          ErrorCode::bad_argument,
          [&] { (void)measure_spectrum(taken(source), {.bands_per_octave = 3, .period_frames = 65536}); }),
      "less than two periods");
}

}  // namespace
}  // namespace wavicon::spectrum_test
