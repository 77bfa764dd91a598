// SPDX-License-Identifier: MIT
#include "wavicon/intake/align.hpp"

#include <algorithm>
#include <array>
#include <numbers>

#include "intake/damage.hpp"
#include "intake/hit_signals.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::align_test {
namespace {

using namespace testing;

constexpr double kClean = 1e-4;  // samples

std::vector<double> programme(const std::string& content, double rate, double seconds,
                              std::int64_t seed = 1) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back(
      {.kind = Programme{.content = content, .level_dbfs = -20, .seconds = seconds, .seed = seed}});
  recipe.parts.push_back(
      {.kind = Noise{.colour = "pink", .level_dbfs = -60, .seconds = seconds, .seed = seed + 7},
       .with_previous = true});
  Stimulus stimulus(recipe);
  return rendered(stimulus);
}

std::optional<Alignment> aligned(const Audio& a, const Audio& b, const AlignOptions& options = {}) {
  MemorySource reference(a), capture(b);
  return align(reference, capture, options);
}

TEST(Align, FindsDelayGainPolarityAndDrift) {
  for (const double rate : {44100.0, 96000.0})
    for (const char* content : {"voice", "chamber"}) {
      const auto x = programme(content, rate, 5);
      const Audio reference = audio_of(x, rate);
      struct Case {
        double delay, gain, ppm;
      };
      for (const Case& c : {Case{4321.37, -0.5, 0}, Case{-1234.6, 0.01, 20}, Case{300.5, -1, -150}}) {
        const double step = 1 / (1 + c.ppm * 1e-6);
        auto y = resampled(x, step, c.delay * step, x.size());
        for (double& v : y) v *= c.gain;
        const auto found = aligned(reference, audio_of(y, rate));
        ASSERT_TRUE(found) << rate << content << c.delay;
        EXPECT_NEAR(found->delay_frames, c.delay, kClean * 50) << rate << content;
        EXPECT_NEAR(found->drift_ppm, c.ppm, 0.01) << rate << content << c.delay;
        EXPECT_NEAR(found->gain / c.gain, 1, 2e-3) << rate << content << c.delay;
        EXPECT_TRUE(found->candidates.empty());
      }
    }
}

// Segments are looked at many times over; of a short capture no frame is decoded for each of them again.
TEST(Align, ReadsACaptureOnceOrTwice) {
  class Counting : public MemorySource {
   public:
    using MemorySource::MemorySource;
    void read(std::int64_t first, std::span<double> planar) override {
      values += planar.size();
      MemorySource::read(first, planar);
    }
    std::size_t values = 0;
  };
  const auto x = programme("chamber", 48000, 20);
  const Audio a = audio_of(x, 48000), b = audio_of(resampled(x, 1 - 3e-5, -4321.4, x.size()), 48000);
  Counting reference(a), capture(b);
  ASSERT_TRUE(align(reference, capture));
  EXPECT_LT(reference.values, 2 * x.size());
  EXPECT_LT(capture.values, 2 * x.size());
}

TEST(Align, HalfASampleOffIsNoTrap) {
  std::vector<double> x(96000);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = 0.1 * gaussian(6, n);
  for (const double late : {-12.5, 0.5, 3.499, 100.501}) {
    const auto found = aligned(audio_of(x, 48000), audio_of(resampled(x, 1, late, x.size()), 48000));
    ASSERT_TRUE(found);
    EXPECT_NEAR(found->delay_frames, late, kClean);
  }
}

// What is loud and not A's own has no say: the bands of a segment weigh by what they have in common.
TEST(Align, ALoudBandOfItsOwnDoesNotPullTheDelay) {
  std::vector<double> x(480000);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = 0.01 * gaussian(6, n);
  auto y = resampled(x, 1, 71.3, x.size());
  // A resonance of another noise at 5 kHz, 6 dB louder than all of it.
  double last = 0, before = 0;
  for (std::size_t n = 0; n < y.size(); ++n) {
    const double now =
        1.97 * std::cos(2 * std::numbers::pi * 5000 / 48000) * last - 0.97 * before + 0.004 * gaussian(8, n);
    before = last;
    last = now;
    y[n] += now;
  }
  const auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->delay_frames, 71.3, 0.0004);  // without weights: 0.001
  EXPECT_NEAR(found->delay_frames, 71.3, 2 * found->uncertainty_frames);
}

TEST(Align, NoiseAndCutsDoNoHarm) {
  const auto x = programme("chamber", 48000, 10);
  auto y = resampled(x, 1, 500.25, x.size());
  for (std::size_t n = 0; n < y.size(); ++n) y[n] += 1e-4 * gaussian(3, n);
  auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->delay_frames, 500.25, 2e-3);
  EXPECT_NEAR(found->drift_ppm, 0, 0.01);
  // Noise as strong as the programme.
  for (std::size_t n = 0; n < y.size(); ++n) y[n] += 0.1 * gaussian(4, n);
  found = aligned(audio_of(x, 48000), audio_of(y, 48000), {.drift = false});
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->delay_frames, 500.25, found->uncertainty_frames);
  EXPECT_LT(found->uncertainty_frames, 0.1);
  EXPECT_NEAR(found->gain, 1, 0.02);
  // Only the middle of it was recorded.
  const std::vector<double> cut(x.begin() + 100000, x.begin() + 300000);
  found = aligned(audio_of(x, 48000), audio_of(cut, 48000));
  ASSERT_TRUE(found);
  EXPECT_NEAR(found->delay_frames, -100000, 1e-3);
  EXPECT_EQ(found->first_frame, 100000);
  EXPECT_EQ(found->end_frame, 300000);
}

TEST(Align, TellsASlip) {
  const auto x = programme("voice", 48000, 10);
  auto lost = x;
  lost.erase(lost.begin() + 300000, lost.begin() + 300100);
  const auto found = aligned(audio_of(x, 48000), audio_of(lost, 48000));
  ASSERT_TRUE(found);
  ASSERT_EQ(found->slips.size(), 1U);
  EXPECT_EQ(found->slips[0].frames, -100);
  EXPECT_LE(found->slips[0].after_frame, 300000);
  EXPECT_GE(found->slips[0].before_frame, 300000);
  EXPECT_NEAR(found->delay_frames, 0, 1e-3);
}

// Frames lost and inserted, one and many, at one and three places: the count exactly, each place, no drift.
TEST(Align, SlipsAreCountedAndPlaced) {
  const double rate = 48000;
  for (const char* content : {"chamber", "voice"}) {
    const auto x = programme(content, rate, 20, 3);
    const Audio reference = audio_of(x, rate);
    for (const std::int64_t frames : {-1, -7, 5000, -48000})
      for (const int count : {1, 3})
        for (const double ppm : {0.0, 40.0}) {
          if (count == 1 && ppm != 0) continue;
          if (content == std::string("voice") && frames != -7 && frames != 5000) continue;
          // Three together shorten or lengthen it by three times as much.
          std::vector<std::size_t> places = {240007};
          if (count == 3) places = {240007, 500003, 750011};
          std::vector<double> y;
          std::size_t from = 0;
          for (const std::size_t place : places) {
            y.insert(y.end(), x.begin() + static_cast<std::ptrdiff_t>(from),
                     x.begin() + static_cast<std::ptrdiff_t>(place));
            from = place;
            if (frames < 0) from += static_cast<std::size_t>(-frames);
            // Something from elsewhere.
            if (frames > 0) y.insert(y.end(), x.begin() + 30000, x.begin() + 30000 + frames);
          }
          y.insert(y.end(), x.begin() + static_cast<std::ptrdiff_t>(from), x.end());
          y = resampled(y, 1 / (1 + ppm * 1e-6), 100.25, y.size());
          const std::string what = std::string(content) + " " + std::to_string(frames) + " × " +
                                   std::to_string(count) + ", " + std::to_string(ppm) + " ppm";
          const auto found = aligned(reference, audio_of(y, rate));
          ASSERT_TRUE(found) << what;
          ASSERT_EQ(found->slips.size(), places.size()) << what;
          EXPECT_NEAR(found->drift_ppm, ppm, 0.1) << what;
          for (std::size_t i = 0; i < places.size(); ++i) {
            const Slip& slip = found->slips[i];
            const auto place = static_cast<std::int64_t>(places[i]),
                       behind = place + std::max<std::int64_t>(0, -frames);
            EXPECT_EQ(slip.frames, std::llround(static_cast<double>(frames) * (1 + ppm * 1e-6)))
                << what << " " << i;
            EXPECT_LE(slip.after_frame, place + 96) << what << " " << i;
            EXPECT_GE(slip.before_frame, behind - 96) << what << " " << i;
            // As near as 2 ms, or what lies between hardly sounds.
            const auto silence = [&](std::int64_t first, std::int64_t end) {
              double peak = 0;
              for (auto n = first; n < end; ++n)
                peak = std::max(peak, std::abs(x[static_cast<std::size_t>(n)]));
              return peak < 0.01;
            };
            EXPECT_TRUE(place - slip.after_frame < 96 || silence(slip.after_frame + 96, place))
                << what << " " << i << " " << slip.after_frame;
            EXPECT_TRUE(slip.before_frame - behind < 96 || silence(behind, slip.before_frame - 96))
                << what << " " << i << " " << slip.before_frame;
          }
        }
  }
}

TEST(Align, ExactCopiesOfHitsLieExactlyWhereTheyAre) {
  for (const double rate : {44100.0, 96000.0})
    for (const Kind kind : kKinds)
      for (const std::int64_t late : {0, 1, 1097, 40000, -100}) {
        const auto x = hit(kind, rate);
        auto y = later(x, late, static_cast<std::size_t>(1.5 * rate));
        for (double& v : y) v *= -0.1;
        const auto found = aligned(audio_of(x, rate), audio_of(y, rate));
        ASSERT_TRUE(found) << static_cast<int>(kind) << " " << late;
        EXPECT_NEAR(found->delay_frames, static_cast<double>(late), 1e-6);
        EXPECT_EQ(found->drift_ppm, 0);
        EXPECT_NEAR(found->gain, -0.1, 1e-9);
        EXPECT_NEAR(found->match, 1, 1e-6);
        EXPECT_TRUE(found->slips.empty());
      }
}

TEST(Align, HitsInNoiseAndThroughSaturationAreWithinATenth) {
  for (const Kind kind : kKinds) {
    const auto x = hit(kind, 48000);
    auto y = resampled(x, 1, 5000.25, 96000);
    const double top = *std::max_element(y.begin(), y.end());
    auto noisy = y, hot = y;
    for (std::size_t n = 0; n < y.size(); ++n) {
      noisy[n] += top * ratio_from_db(-50) * gaussian(11, n);
      hot[n] = std::tanh(3 * y[n]);
    }
    int which = 0;
    for (const auto& capture : {y, noisy, hot}) {
      const std::string name = std::to_string(static_cast<int>(kind)) + (++which == 1 ? " clean"
                                                                         : which == 2 ? " noisy"
                                                                                      : " hot");
      const auto found = aligned(audio_of(x, 48000), audio_of(capture, 48000));
      ASSERT_TRUE(found) << name;
      EXPECT_NEAR(found->delay_frames, 5000.25, 0.1) << name << " " << found->uncertainty_frames;
      EXPECT_EQ(found->drift_ppm, 0);
    }
    const auto in_noise = aligned(audio_of(x, 48000), audio_of(noisy, 48000));
    EXPECT_NEAR(in_noise->delay_frames, 5000.25, 2 * in_noise->uncertainty_frames) << static_cast<int>(kind);
  }
}

double bent(int curve, double v) {
  return curve == 0 ? std::tanh(3 * v) : curve == 1 ? std::clamp(2 * v, -0.4, 0.5) : v + 0.4 * v * v;
}

// Saturation turns up what is soft, and a kick is lower there: likeness alone puts it a sample or more off.
// The curve that bends it says where it lies.
TEST(Align, ABentHitIsTimedByItsCurve) {
  for (const double rate : {44100.0, 96000.0})
    for (const Kind kind : {Kind::kick, Kind::snare, Kind::burst}) {
      const auto x = hit(kind, rate);
      const auto clean = resampled(x, 1, 5000.37, static_cast<std::size_t>(1.5 * rate));
      for (int curve = 0; curve < 3; ++curve)
        for (const double gain : {1.0, -0.3}) {
          auto y = clean;
          for (std::size_t n = 0; n < y.size(); ++n) y[n] = gain * bent(curve, y[n]) + 1e-5 * gaussian(4, n);
          const auto found = aligned(audio_of(x, rate), audio_of(y, rate));
          ASSERT_TRUE(found) << static_cast<int>(kind) << " " << curve << " " << rate;
          EXPECT_NEAR(found->delay_frames, 5000.37, 0.01)
              << static_cast<int>(kind) << " " << curve << " " << rate;
          EXPECT_NEAR(found->delay_frames, 5000.37, std::max(1e-4, 2 * found->uncertainty_frames));
          EXPECT_GT(found->gain * gain, 0);
        }
    }
}

// Steps and ramps of one tone look the same a period later but for their levels, and a clipper takes these.
TEST(Align, StairsAndRampsThroughACurveLieWhereItLeavesNothing) {
  const double rate = 48000;
  std::vector<double> stairs(19200, 0.0), ramp = stairs;
  for (int n = 0; n < 5 * 48000; ++n) {
    const double t = n / rate,
                 edge = std::min({1.0, std::fmod(t, 0.5) / 0.003, (0.5 - std::fmod(t, 0.5)) / 0.003}),
                 sine = std::sin(2 * std::numbers::pi * 997 * t);
    stairs.push_back(edge * ratio_from_db(-30 + 3 * std::floor(t / 0.5)) * sine);
    ramp.push_back(ratio_from_db(-40 + 7.5 * t) * sine);
  }
  stairs.resize(stairs.size() + 9600, 0.0);
  ramp.resize(ramp.size() + 9600, 0.0);
  for (const auto& x : {stairs, ramp})
    for (const double late : {700.0, 12345.37})
      for (int curve = late > 1000; curve < 3; curve += 2) {
        auto y = resampled(x, 1, late, x.size() + 20000);
        for (std::size_t n = 0; n < y.size(); ++n) y[n] = bent(curve, y[n]) + 1e-5 * gaussian(4, n);
        const auto found = aligned(audio_of(x, rate), audio_of(y, rate));
        ASSERT_TRUE(found) << curve << " " << late;
        EXPECT_NEAR(found->delay_frames, late, 0.02) << curve << " " << late;
        EXPECT_LT(found->uncertainty_frames, 0.05);
        EXPECT_NEAR(found->delay_frames, late, std::max(1e-3, 2 * found->uncertainty_frames));
        EXPECT_EQ(found->drift_ppm, 0);
      }
}

// What follows is loud, and fits one place as well as any.
TEST(Align, ARampThatLostPeriodsWhileItWasSoftIsRefused) {
  const double rate = 48000;
  std::vector<double> ramp(19200, 0.0);
  for (int n = 0; n < 8 * 48000; ++n) {
    const double t = n / rate, edge = std::min({1.0, t / 0.005, (8 - t) / 0.005});
    ramp.push_back(edge * ratio_from_db(-40 + 4.875 * t) * std::sin(2 * std::numbers::pi * 997 * t));
  }
  ramp.resize(ramp.size() + 24000, 0.0);
  auto back = later(ramp, 700, ramp.size() + 700);
  for (std::size_t n = 0; n < back.size(); ++n)
    back[n] = std::clamp(1.3 * back[n], -0.5, 0.5) + 1e-5 * gaussian(6, n);
  const auto whole = aligned(audio_of(ramp, rate), audio_of(back, rate));
  ASSERT_TRUE(whole);
  EXPECT_NEAR(whole->delay_frames, 700, 0.01);
  back.erase(back.begin() + 150000, back.begin() + 150480);
  EXPECT_FALSE(aligned(audio_of(ramp, rate), audio_of(back, rate)));
}

// A beater, and a note that falls below 80 Hz.
std::vector<double> kick_with_beater(double rate) {
  std::vector<double> x(static_cast<std::size_t>(0.6 * rate), 0.0);
  for (std::size_t n = static_cast<std::size_t>(0.05 * rate); n < x.size(); ++n) {
    const double t = static_cast<double>(n) / rate - 0.05, turn = 2 * std::numbers::pi;
    x[n] = 0.5 * std::exp(-12 * t) * std::sin(turn * (50 * t + 3 * (1 - std::exp(-30 * t)))) +
           0.08 * std::exp(-250 * t) * std::sin(turn * 2400 * t);
  }
  return x;
}

// Second order, Butterworth: how it sounds behind a low cut.
std::vector<double> low_cut(std::vector<double> x, double hz, double rate) {
  const double w = 2 * std::numbers::pi * hz / rate, c = std::cos(w), s = std::sin(w) / std::numbers::sqrt2;
  double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
  for (double& v : x) {
    const double out = ((1 + c) / 2 * (v - 2 * x1 + x2) + 2 * c * y1 - (1 - s) * y2) / (1 + s);
    x2 = x1;
    x1 = v;
    y2 = y1;
    v = y1 = out;
  }
  return x;
}

// A filter moves each third octave by another time: what it moved them by against each other is uncertain.
TEST(Align, TheUncertaintyOfAFilteredHitHoldsTheSpreadOfItsBands) {
  const double rate = 48000;
  const auto x = hit(Kind::burst, rate), clean = later(x, 5000, 96000);
  auto noisy = [](std::vector<double> y) {
    for (std::size_t n = 0; n < y.size(); ++n) y[n] += 4e-6 * gaussian(3, n);
    return y;
  };
  const auto plain = aligned(audio_of(x, rate), audio_of(noisy(clean), rate)),
             cut = aligned(audio_of(x, rate), audio_of(noisy(low_cut(clean, 300, rate)), rate));
  ASSERT_TRUE(plain);
  ASSERT_TRUE(cut);
  EXPECT_LT(plain->uncertainty_frames, 0.1);
  // At 1 kHz the phase comes 3.5 frames early, the envelope about as late.
  EXPECT_GT(cut->uncertainty_frames, 0.5);
  EXPECT_NEAR(cut->delay_frames, 5000, 5);
}

// A second-order low cut turns a kick's note by up to half a turn: the note fits best 130 samples beside
// where the beater lies.
TEST(Align, AHitWhoseBandsAFilterMovedApartIsRefused) {
  for (const double rate : {44100.0, 48000.0, 96000.0}) {
    const auto x = kick_with_beater(rate);
    for (const double hz : {60.0, 80.0, 120.0}) {
      const auto y = low_cut(later(x, 5000, static_cast<std::size_t>(1.5 * rate)), hz, rate);
      if (const auto found = aligned(audio_of(x, rate), audio_of(y, rate)); found) {
        EXPECT_NEAR(found->delay_frames, 5000, found->uncertainty_frames + 0.5) << hz << " " << rate;
      }
    }
  }
}

// What is not there is not found; where a filter turns a hit into another one, no place is stated.
TEST(Align, AnotherHitIsRefused) {
  for (const Kind kind : kKinds)
    for (const Kind other : kKinds) {
      if (kind == other) continue;
      EXPECT_FALSE(
          aligned(audio_of(hit(kind, 48000), 48000), audio_of(later(hit(other, 48000), 3000, 96000), 48000)))
          << static_cast<int>(kind) << " " << static_cast<int>(other);
    }
  EXPECT_FALSE(aligned(audio_of(hit(Kind::snare, 48000, 5), 48000),
                       audio_of(later(hit(Kind::snare, 48000, 6), 3000, 96000), 48000)));
  // A kick through a steep low cut above its own note.
  auto cut = later(hit(Kind::kick, 48000), 5000, 96000);
  for (int order = 0; order < 3; ++order) {
    double low = 0;
    for (double& v : cut) {
      low += 2 * std::numbers::pi * 150 / 48000 * (v - low);
      v -= low;
    }
  }
  if (const auto found = aligned(audio_of(hit(Kind::kick, 48000), 48000), audio_of(cut, 48000)); found) {
    EXPECT_NEAR(found->delay_frames, 5000, 50);
  }
}

// Segments weigh by the time that is in them: the low end of a sweep says little, and distortion turns
// nothing.
TEST(Align, SweepsThroughDistortionLieWhereTheyAreAndDoNotDrift) {
  for (const char* law : {"log", "linear"})
    for (const double seconds : {2.0, 8.0}) {
      Recipe recipe{.sample_rate_hz = 48000, .marks = false, .silence_before_s = 0.5, .silence_after_s = 0.5};
      recipe.parts.push_back(
          {.kind = Sweep{.from_hz = 20, .to_hz = 20000, .seconds = seconds, .law = law, .level_dbfs = -6}});
      Stimulus stimulus(recipe);
      const auto x = rendered(stimulus);
      const auto clean = resampled(x, 1, 777.25, x.size() + 48000);
      for (int curve = 0; curve < 4; ++curve) {
        auto y = clean;
        for (double& v : y)
          v = curve == 1   ? std::tanh(3 * v)
              : curve == 2 ? std::clamp(3 * v, -0.4, 0.4)
              : curve == 3 ? v + 0.3 * v * v
                           : v;
        const auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
        ASSERT_TRUE(found) << law << seconds << curve;
        EXPECT_NEAR(found->delay_frames, 777.25, 0.005) << law << seconds << curve;
        EXPECT_EQ(found->drift_ppm, 0) << law << seconds << curve;
        EXPECT_TRUE(found->slips.empty()) << law << seconds << curve;
      }
    }
}

TEST(Align, NoDriftIsDrawnAcrossASlip) {
  const auto x = programme("voice", 48000, 12, 5);
  for (const std::int64_t frames : {-4000, -300, -10, -1, 1, 10, 300, 4000}) {
    auto y = x;
    if (frames < 0)
      y.erase(y.begin() + 300000, y.begin() + 300000 - frames);
    else
      y.insert(y.begin() + 300000, static_cast<std::size_t>(frames), 0.0);
    const auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
    ASSERT_TRUE(found) << frames;
    EXPECT_EQ(found->drift_ppm, 0) << frames;
    ASSERT_EQ(found->slips.size(), 1U) << frames;
    EXPECT_EQ(found->slips[0].frames, frames);
    // The line is that of the longer piece: before the place, or behind it.
    EXPECT_NEAR(std::abs(found->delay_frames),
                found->first_frame == 0 && std::abs(found->delay_frames) < 0.5 ? 0 : std::abs(frames), 1e-3);
    EXPECT_NEAR(found->gain, 1, 0.05) << frames;
  }
}

// A drum machine's beat fits a beat later; where much is missing a piece may not be found at all. Counts are
// exact, or the whole is refused.
std::vector<double> machine(double rate, double seconds) {
  std::vector<double> beat(static_cast<std::size_t>(seconds * rate), 0.0);
  const auto low = hit(Kind::kick, rate), high = hit(Kind::snare, rate);
  for (std::size_t i = 0; i * 13846 < beat.size(); ++i) {
    const double level = 0.5 + 0.5 * random_uniform(7, 0, i);
    const auto& one = i % 4 == 2 ? high : low;
    if (i % 2 == 1 && random_uniform(7, 1, i) < 0.7) continue;
    for (std::size_t n = 0; n < one.size() && i * 13846 + n < beat.size(); ++n)
      beat[i * 13846 + n] += level * one[n];
  }
  return beat;
}

TEST(Align, CountsOfSlipsAreExactOrNotStated) {
  const double rate = 48000;
  const auto beat = machine(rate, 16);
  int stated = 0;
  const std::array<std::vector<double>, 2> signals = {beat, programme("voice", rate, 16, 3)};
  for (const auto& x : signals)
    for (const std::int64_t frames : {-48000, -5000, -7, 7, 5000, 48000})
      for (const std::vector<std::size_t>& places :
           {std::vector<std::size_t>{340007}, {150011, 340007, 560003}}) {
        // Of the voice, which has no bars to be taken for each other, and of one place, two losses.
        if ((&x != &signals[0] || places.size() == 1) && frames != -5000 && frames != 7) continue;
        std::vector<double> y;
        std::size_t from = 0;
        for (const std::size_t place : places) {
          y.insert(y.end(), x.begin() + static_cast<std::ptrdiff_t>(from),
                   x.begin() + static_cast<std::ptrdiff_t>(place));
          from = place + static_cast<std::size_t>(std::max<std::int64_t>(0, -frames));
          if (frames > 0) y.insert(y.end(), x.begin() + 30000, x.begin() + 30000 + frames);
        }
        y.insert(y.end(), x.begin() + static_cast<std::ptrdiff_t>(from), x.end());
        const auto found = aligned(audio_of(x, rate), audio_of(y, rate));
        if (!found) continue;
        ++stated;
        const std::string what = std::to_string(frames) + " × " + std::to_string(places.size());
        ASSERT_EQ(found->slips.size(), places.size()) << what;
        for (const Slip& slip : found->slips) EXPECT_EQ(slip.frames, frames) << what;
        // Not a bar off: the piece with the line is late by what lies before it.
        const double before = found->delay_frames / static_cast<double>(frames);
        EXPECT_NEAR(before, std::round(before), 0.01) << what;
        EXPECT_TRUE(before > -0.5 && before < static_cast<double>(places.size()) + 0.5) << what;
      }
  EXPECT_GE(stated, 8);
}

// The start of a machine's beat, whose bars come again louder and softer: cut off after a bar it fits the
// others, to a part.
TEST(Align, AShortPieceOfABeatLiesWhereItLeavesLeast) {
  constexpr double kRate = 44100;
  const auto hits = static_cast<std::size_t>(0.3 * kRate);
  std::vector<double> x(static_cast<std::size_t>(5.2 * kRate), 0.0);
  const double levels[] = {0.25, 0.1,  0.2, 0.13, 0.48, 0.24, 0.37, 0.29,
                           0.5,  0.19, 0.4, 0.26, 0.52, 0.22, 0.38, 0.28};
  for (std::size_t hit = 0; hit < 16; ++hit)
    for (std::size_t n = 0; n < hits; ++n) {
      const double t = static_cast<double>(n) / kRate;
      const double sound =
          hit % 2 == 0
              ? std::exp(-4 * t) * std::sin(2 * std::numbers::pi * (55 * t + 2 * (1 - std::exp(-30 * t))))
              : 0.5 * std::exp(-5 * t) * gaussian(4, n);
      x[static_cast<std::size_t>(0.1 * kRate) + hit * hits + n] += levels[hit] * sound;
    }
  for (const double late : {4457.09, 300.0}) {
    auto y = resampled(x, 1, late, static_cast<std::size_t>(1.27 * kRate));
    for (std::size_t n = 0; n < y.size(); ++n) y[n] = -0.129 * y[n] + 2e-6 * gaussian(3, n);
    const auto found = aligned(audio_of(x, kRate), audio_of(y, kRate));
    ASSERT_TRUE(found) << late;
    EXPECT_NEAR(found->delay_frames, late, 0.01);
    EXPECT_NEAR(found->gain, -0.129, 1e-4);
  }
}

// Under a drift its segments are found in other bars: no slip of a bar and back.
TEST(Align, ADrumMachineThatDriftsHasLostNothing) {
  const auto x = machine(48000, 12);
  for (const double ppm : {-300.0, -150.0, 20.0, 150.0, 300.0}) {
    const auto y = resampled(x, 1 / (1 + ppm * 1e-6), 700.3, x.size() + 3000);
    const auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
    ASSERT_TRUE(found) << ppm;
    EXPECT_TRUE(found->slips.empty()) << ppm;
    EXPECT_NEAR(found->drift_ppm, ppm, 0.1) << ppm;
  }
}

// Two mixes of a loop under a voice, a bar of it changed or muted: what follows is where it was.
TEST(Align, AChangedBarOfALoopIsNoSlip) {
  const auto bar = programme("chamber", 48000, 2, 3), over = programme("voice", 48000, 16, 4);
  std::vector<double> x(8 * 96000);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = bar[n % 96000] + 0.1 * over[n];
  for (const double left : {0.0, 0.3}) {
    auto y = later(x, 1234, x.size() + 2000);
    for (std::size_t n = 0; n < 96000; ++n)
      y[1234 + 3 * 96000 + n] += left * bar[(n + 48000) % 96000] - bar[n];
    const auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
    ASSERT_TRUE(found) << left;
    EXPECT_NEAR(found->delay_frames, 1234, 1e-3) << left;
    EXPECT_TRUE(found->slips.empty()) << left;
  }
}

// A drift is claimed when it stands out of what the segments scatter, and its bound is told when it does not.
TEST(Align, ADriftThatIsNotThereIsNotClaimedAndBounded) {
  for (int seed = 0; seed < 6; ++seed) {
    const auto x = programme(seed % 2 == 0 ? "voice" : "chamber", 48000, 6, seed + 20);
    auto y = resampled(x, 1, 500.25, x.size());
    for (std::size_t n = 0; n < y.size(); ++n) y[n] += 0.03 * gaussian(static_cast<std::uint64_t>(seed), n);
    const auto found = aligned(audio_of(x, 48000), audio_of(y, 48000));
    ASSERT_TRUE(found);
    EXPECT_EQ(found->drift_ppm, 0) << seed;
    EXPECT_GT(found->drift_bound_ppm, 0);
    EXPECT_LT(found->drift_bound_ppm, 10);
    EXPECT_NEAR(found->delay_frames, 500.25, std::max(1e-3, 2 * found->uncertainty_frames)) << seed;
  }
}

TEST(Align, SaysWhenThereIsNothingInCommonOrTooMuch) {
  const auto x = programme("chamber", 48000, 5), other = programme("voice", 48000, 5, 9);
  EXPECT_FALSE(aligned(audio_of(x, 48000), audio_of(other, 48000)));
  EXPECT_FALSE(aligned(audio_of(x, 48000), Audio(48000, 1, 100000)));
  std::vector<double> periodic(200000);
  for (std::size_t n = 0; n < periodic.size(); ++n) periodic[n] = x[100000 + n % 24000];
  const auto found =
      aligned(audio_of({periodic.begin(), periodic.begin() + 100000}, 48000), audio_of(periodic, 48000));
  ASSERT_TRUE(found);
  EXPECT_FALSE(found->candidates.empty()) << "it fits as well half a second later";
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)aligned(Audio(48000, 1, 9), Audio(44100, 1, 9)); })
          .find("bring both to one rate"),
      std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] { (void)aligned(Audio(48000, 1, 9), Audio(48000, 1, 9), {.capture_channel = 1}); })
                .find("there is no channel 2"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)aligned(Audio(48000, 1, 0), Audio(48000, 1, 9)); })
                .find("0 frames"),
            std::string::npos);
}

// Steps of tone, soft at the edges: next to nothing but their pauses tells where they lie.
std::vector<double> steps_of_tone(double rate, double hz, double length_s, int count) {
  std::vector<double> x(static_cast<std::size_t>(0.3 * rate), 0.0);
  for (int i = 0; i < count; ++i) {
    const auto frames = static_cast<std::size_t>((length_s + 0.017 * (i % 5)) * rate);
    for (std::size_t n = 0; n < frames; ++n) {
      const double edge =
          std::min({1.0, static_cast<double>(n) / 150, static_cast<double>(frames - n) / 150});
      x.push_back(edge * 0.01 * (1 + i) *
                  std::sin(2 * std::numbers::pi * hz * static_cast<double>(n) / rate));
    }
    x.resize(x.size() + static_cast<std::size_t>((0.07 + 0.006 * (i % 4)) * rate), 0.0);
  }
  return x;
}

TEST(Align, StepsOfToneLieWhereTheResidualVanishes) {
  for (const double rate : {44100.0, 96000.0})
    for (const std::size_t late : {0U, 1U, 4801U}) {
      const auto x = steps_of_tone(rate, 1000, 0.4, 12);
      auto y = padded(x, late, 500);
      for (double& v : y) v *= -0.3;
      const auto found = aligned(audio_of(x, rate), audio_of(y, rate));
      ASSERT_TRUE(found) << rate << " " << late;
      EXPECT_NEAR(found->delay_frames, static_cast<double>(late), 1e-3) << rate;
      EXPECT_EQ(found->drift_ppm, 0);
      EXPECT_NEAR(found->gain, -0.3, 1e-6);
    }
}

TEST(Align, AToneThatGoesOnLiesNowhere) {
  std::vector<double> x(48000 * 20);
  for (std::size_t n = 0; n < x.size(); ++n)
    x[n] = 0.1 * std::sin(2 * std::numbers::pi * 997 * static_cast<double>(n) / 48000);
  std::vector<double> y(x.begin() + 4800, x.end());
  EXPECT_FALSE(aligned(audio_of(x, 48000), audio_of(y, 48000)));
}

// Two signals that have nothing in common, of every kind and of unequal lengths: no place is stated.
// Each kind with itself and with others; `scripts/trials unrelated N` tries as many as one likes.
TEST(Align, UnrelatedSignalsAreNotLinedUp) {
  const double rate = 24000;
  const auto make = [&](int kind, double seconds, std::int64_t seed) {
    switch (kind) {
      case 0:
        return programme("voice", rate, seconds, seed);
      case 1:
        return programme("chamber", rate, seconds, seed);
      case 2:
        return steps_of_tone(rate, 200.0 * static_cast<double>(1 + seed % 17),
                             0.2 + 0.01 * static_cast<double>(seed % 13), static_cast<int>(3 * seconds));
      case 3: {  // hits on a beat
        std::vector<double> x(static_cast<std::size_t>(seconds * rate), 0.0);
        const auto beat = static_cast<std::size_t>(0.5 * rate);
        for (std::size_t at = 1000; at + 6000 < x.size(); at += beat)
          for (std::size_t n = 0; n < 6000; ++n)
            x[at + n] =
                std::exp(-static_cast<double>(n) / 900) * gaussian(static_cast<std::uint64_t>(seed), at + n);
        return x;
      }
      default: {
        std::vector<double> x(static_cast<std::size_t>(seconds * rate));
        for (std::size_t n = 0; n < x.size(); ++n) x[n] = 0.1 * gaussian(static_cast<std::uint64_t>(seed), n);
        return x;
      }
    }
  };
  int pairs = 0;
  for (int i = 0; i < 75; ++i) {
    const int kind = i % 5, other = i % 3 == 0 ? (i / 5) % 5 : kind;
    const double a_s = 1 + 0.37 * (i % 11), b_s = 1 + 0.53 * ((i * 7) % 13);
    const auto found =
        aligned(audio_of(make(kind, a_s, 2 * i + 1), rate), audio_of(make(other, b_s, 2 * i + 2), rate));
    ++pairs;
    EXPECT_FALSE(found) << "kinds " << kind << " and " << other << ", " << a_s << " and " << b_s
                        << " s: " << found->confidence << ", " << found->agreed << " of " << found->looked;
  }
  EXPECT_EQ(pairs, 75);
}

// A loop lies where all of it lies; one cycle of it nearest to the start, the others are candidates.
TEST(Align, ARepetitionHasCandidates) {
  const auto cycle = programme("voice", 48000, 1.5);
  std::vector<double> loop;
  for (int i = 0; i < 6; ++i) loop.insert(loop.end(), cycle.begin(), cycle.begin() + 72000);
  const auto late = padded(loop, 700, 9000);
  const auto whole = aligned(audio_of(loop, 48000), audio_of(late, 48000));
  ASSERT_TRUE(whole);
  EXPECT_NEAR(whole->delay_frames, 700, 1e-3);
  const auto one = aligned(audio_of({cycle.begin(), cycle.begin() + 72000}, 48000), audio_of(late, 48000));
  ASSERT_TRUE(one);
  EXPECT_NEAR(one->delay_frames, 700, 1e-3);
  ASSERT_GE(one->candidates.size(), 4U);
  EXPECT_NEAR(one->candidates[0], 72700, 8);
  EXPECT_NEAR(one->candidates[1], 144700, 8);
}

TEST(Align, AnotherSpeedIsNamed) {
  const auto x = programme("voice", 48000, 8);
  const Audio reference = audio_of(x, 48000);
  for (const double ratio : {44.1 / 48, 48 / 44.1, 2.0, 0.5, 1.006, 0.9931}) {
    auto y = resampled(x, 1 / ratio, 700.3, static_cast<std::size_t>(static_cast<double>(x.size()) * ratio));
    const Audio played = audio_of(y, 48000);
    MemorySource a(reference), b(played);
    EXPECT_FALSE(align(a, b)) << ratio;
    const auto found = speed_between(a, b);
    ASSERT_TRUE(found) << ratio;
    EXPECT_NEAR(*found / ratio, 1, 2e-4);
    if (ratio != 2) continue;
    // Wherever in the capture it lies.
    y.insert(y.begin(), 500000, 0.0);
    const Audio late_audio = audio_of(y, 48000);
    MemorySource late(late_audio);
    const auto found_late = speed_between(a, late);
    ASSERT_TRUE(found_late);
    EXPECT_NEAR(*found_late / ratio, 1, 2e-4);
  }
  const Audio other = audio_of(programme("voice", 48000, 8, 99), 48000);
  MemorySource a(reference), b(other);
  EXPECT_FALSE(speed_between(a, b));
}

}  // namespace
}  // namespace wavicon::align_test
