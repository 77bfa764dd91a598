// SPDX-License-Identifier: MIT
// Loudness and true peaks against the filter that the standard lists, in closed form, and against libebur128,
// which shares no code with ours.

#include <ebur128.h>

#include <complex>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "support.hpp"
#include "wavicon/audio/between_samples.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/levels/levels.hpp"

namespace wavicon::loudness_test {
namespace {

using namespace testing;

constexpr double kLoudnessLu = 0.01, kTruePeakDb = 0.01;

// |H|² of the two sections of ITU-R BS.1770 at 48 kHz.
double weighting(double hz) {
  const auto z = std::polar(1.0, -2 * M_PI * hz / 48000);
  const auto shelf = (1.53512485958697 - 2.69169618940638 * z + 1.19839281085285 * z * z) /
                     (1.0 - 1.69065929318241 * z + 0.73248077421585 * z * z);
  const auto cut = (1.0 - 2.0 * z + z * z) / (1.0 - 1.99004745483398 * z + 0.99007225036621 * z * z);
  return std::norm(shelf * cut);
}

// Theirs of the same samples: integrated, range, highest momentary and short-term loudness, true peaks.
struct Other {
  double integrated = 0, range = 0, momentary = -1e9, short_term = -1e9;
  std::vector<double> true_peak;
};

Other other_of(const Audio& audio) {
  const auto channels = static_cast<unsigned>(audio.channel_count());
  auto* state = ebur128_init(
      channels, static_cast<unsigned long>(audio.sample_rate_hz()),
      EBUR128_MODE_I | EBUR128_MODE_LRA | EBUR128_MODE_S | EBUR128_MODE_M | EBUR128_MODE_TRUE_PEAK);
  Other other;
  const auto step = static_cast<std::int64_t>(std::lround(0.1 * audio.sample_rate_hz()));
  std::vector<double> interleaved;
  for (std::int64_t at = 0; at < audio.frames(); at += step) {
    const std::int64_t count = std::min(step, audio.frames() - at);
    interleaved.clear();
    for (std::int64_t n = at; n < at + count; ++n)
      for (unsigned c = 0; c < channels; ++c)
        interleaved.push_back(audio.channel(static_cast<int>(c))[static_cast<std::size_t>(n)]);
    ebur128_add_frames_double(state, interleaved.data(), static_cast<std::size_t>(count));
    double value = 0;
    if (at + count >= 4 * step && count == step) {
      ebur128_loudness_momentary(state, &value);
      other.momentary = std::max(other.momentary, value);
    }
    if (at + count >= 30 * step && count == step) {
      ebur128_loudness_shortterm(state, &value);
      other.short_term = std::max(other.short_term, value);
    }
  }
  ebur128_loudness_global(state, &other.integrated);
  ebur128_loudness_range(state, &other.range);
  for (unsigned c = 0; c < channels; ++c) {
    double value = 0;
    ebur128_true_peak(state, c, &value);
    other.true_peak.push_back(value);
  }
  ebur128_destroy(&state);
  return other;
}

LevelsResult levels_of(const Audio& audio, const LevelsOptions& options = {}) {
  MemorySource source(audio);
  return measure_levels(taken(source), options);
}

TEST(Loudness, OfATone) {
  // At 48 kHz the filter is the listed one; elsewhere the bilinear transform bends the top of the axis.
  for (const double rate : {8000.0, 44100.0, 48000.0, 96000.0, 192000.0})
    for (const double hz : {40.0, 100.0, 997.0, 2500.0, 8000.0, 15000.0}) {
      if (hz > 0.4 * rate) continue;
      Audio audio(rate, 1, static_cast<std::int64_t>(4 * rate));
      for (std::int64_t n = 0; n < audio.frames(); ++n)
        audio.channel(0)[static_cast<std::size_t>(n)] = 0.25 * exact_sine(hz, rate, n);
      const double lufs = -0.691 + db_from_power_ratio(0.25 * 0.25 / 2 * weighting(hz));
      const auto found = levels_of(audio, {.true_peak = false}).loudness;
      const double allowed = rate == 48000 ? 1e-6 : rate < 40000 ? 0.3 : 0.01;
      ASSERT_FALSE(found.short_term_lufs.empty());
      // The last of them holds nothing of the start.
      EXPECT_NEAR(found.short_term_lufs.back(), lufs, allowed) << rate << ' ' << hz;
    }
}

TEST(Loudness, AsALibraryThatSharesNoCodeReadsIt) {
  // 12 s for a range, once at each rate; the weights of channels in shorter ones.
  struct Case {
    double rate, seconds;
    int channels;
    const char* content;
  };
  for (const Case& c : {Case{44100, 12, 2, "voice"},
                        {48000, 12, 1, "chamber"},
                        {48000, 4, 4, "voice"},
                        {44100, 4, 5, "chamber"},
                        {48000, 4, 6, "voice"},
                        {48000, 4, 8, "chamber"}}) {
    const Signal x = programme(c.content, c.rate, c.seconds);
    Audio audio(c.rate, c.channels, static_cast<std::int64_t>(x.size()));
    for (int k = 0; k < c.channels; ++k)
      for (std::size_t n = 0; n < x.size(); ++n)
        audio.channel(k)[n] = (1.5 - 0.15 * k) * x[n] * (n > x.size() / 2 ? 0.3 : 1);
    const Other other = other_of(audio);
    const LevelsResult own = levels_of(audio);
    const std::string what = std::to_string(c.rate) + " " + std::to_string(c.channels) + c.content;
    EXPECT_NEAR(own.loudness.integrated_lufs.value_or(0), other.integrated, kLoudnessLu) << what;
    EXPECT_NEAR(own.loudness.range_lu.value_or(-1), other.range, kLoudnessLu) << what;
    EXPECT_NEAR(own.loudness.momentary_max_lufs.value_or(0), other.momentary, kLoudnessLu) << what;
    EXPECT_NEAR(own.loudness.short_term_max_lufs.value_or(0), other.short_term, kLoudnessLu) << what;
    for (std::size_t k = 0; k < own.channels.size(); ++k)
      EXPECT_NEAR(db_from_ratio(own.channels[k].true_peak), db_from_ratio(other.true_peak[k]), kTruePeakDb)
          << what;
  }
}

TEST(Loudness, AtOtherRatesItIsThatOf48Kilohertz) {
  // Theirs leaves the low cut's gain as it falls out at each rate; by how much is known in closed form: the
  // denominator's value at half the rate over that at 48 kHz.
  for (const double rate : {96000.0, 192000.0}) {
    const Signal x = programme("chamber", rate, 4);
    Audio audio(rate, 2, static_cast<std::int64_t>(x.size()));
    for (int c = 0; c < 2; ++c) std::copy(x.begin(), x.end(), audio.channel(c).begin());
    const auto gain = [](double at) {
      const double k = std::tan(M_PI * 38.13547087602444 / at);
      return 1 + k / 0.5003270373238773 + k * k;
    };
    const double apart = db_from_ratio(gain(48000) / gain(rate));
    EXPECT_GT(apart, 0.02);
    EXPECT_NEAR(levels_of(audio).loudness.integrated_lufs.value_or(0), other_of(audio).integrated + apart,
                0.001)
        << rate;
  }
}

TEST(Loudness, IsNotDefinedWhereItsFilterHasNoPlace) {
  std::vector<double> x(20000);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = 0.5 * std::sin(0.1 * M_PI * static_cast<double>(n));
  LevelMeter meter(1, 2000, {});
  meter.push(x);
  const Sheet sheet = levels_sheet(meter.finish(), {.sample_rate_hz = 2000, .channels = 1});
  EXPECT_FALSE(find_reading(sheet, "loudness_integrated_lufs", std::nullopt)->value);
  std::string text;
  for (const auto& finding : sheet.findings) text += finding.text;
  EXPECT_NE(text.find("no loudness at rates below 4 kHz"), std::string::npos);
}

TEST(TruePeak, OfTonesAtAnyPhase) {
  for (const double rate : {44100.0, 48000.0, 88200.0, 96000.0, 192000.0})
    for (const double part : {0.02, 0.1, 0.2, 0.25, 0.37}) {
      const bool twice = rate > 80000, never = rate > 176000;
      // The crest is at most half a place away.
      const double lost = db_from_ratio(std::cos(M_PI * part / (never ? 1 : twice ? 2 : 4)));
      for (const double phase : {0.0, 0.125, 0.31}) {
        TruePeakMeter meter(rate);
        std::vector<double> x;
        for (std::int64_t n = 0; n < 5000; ++n)
          x.push_back(0.5 * exact_sine(part * rate, rate, n, phase) *
                      std::min({1.0, static_cast<double>(n) / 1000, static_cast<double>(4999 - n) / 1000}));
        meter.push(x);
        const double db = db_from_ratio(meter.highest() / 0.5);
        EXPECT_GT(db, lost - 0.02) << rate << ' ' << part;
        EXPECT_LT(db, 0.02) << rate << ' ' << part;
      }
    }
}

TEST(TruePeak, TheSameForAnyBlocksAndToTheVeryEnds) {
  std::vector<double> x;
  for (std::int64_t n = 0; n < 3000; ++n) x.push_back(0.3 * exact_sine(11000, 48000, n, 0.1));
  x[2999] = x[2998] = 0.9;  // a crest between the last two
  TruePeakMeter whole(48000);
  whole.push(x);
  EXPECT_GT(whole.highest(), 1.0);
  for (const std::size_t block : {1U, 63U, 64U, 65U, 1000U}) {
    TruePeakMeter pieces(48000);
    for (std::size_t n = 0; n < x.size(); n += block)
      pieces.push(std::span(x).subspan(n, std::min(block, x.size() - n)));
    EXPECT_EQ(pieces.highest(), whole.highest()) << block;
  }
  EXPECT_EQ(TruePeakMeter(48000).highest(), 0);
  TruePeakMeter one(48000);
  one.push(std::vector{-0.5});
  EXPECT_EQ(one.highest(), 0.5);
}

TEST(TruePeak, AStretchOfATonesMiddleHasNoEdges) {
  // Cut at its crest, a tone would overshoot there if silence lay beside it.
  Audio audio(48000, 1, 48000);
  for (std::int64_t n = 0; n < 48000; ++n)
    audio.channel(0)[static_cast<std::size_t>(n)] = 0.5 * exact_sine(12000, 48000, n, 0.125);
  const auto middle = levels_of(audio, {.from_s = 0.25, .to_s = 0.5, .loudness = false});
  EXPECT_NEAR(db_from_ratio(middle.channels[0].true_peak), -6.0206, 0.02);
}

}  // namespace
}  // namespace wavicon::loudness_test
