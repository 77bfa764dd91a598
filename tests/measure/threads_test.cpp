// SPDX-License-Identifier: MIT
// Figures are the same bits however many threads are allowed.

#include <atomic>
#include <bit>
#include <cmath>
#include <numbers>
#include <thread>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"
#include "wavicon/measure/dynamics/gain_steps.hpp"
#include "wavicon/measure/levels/levels.hpp"
#include "wavicon/measure/noise/noise.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"

namespace wavicon::threads_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;

Audio channels_of(std::vector<Signal> signals) {
  Audio audio(kRate, static_cast<int>(signals.size()), static_cast<std::int64_t>(signals[0].size()));
  for (std::size_t c = 0; c < signals.size(); ++c)
    std::copy(signals[c].begin(), signals[c].end(), audio.channel(static_cast<int>(c)).begin());
  return audio;
}

// Longer than what is read ahead, on three channels, so that parts and threads do not match.
const Audio& music() {
  static const Audio audio = [] {
    const Signal x = programme("chamber", kRate, 5);
    return channels_of({x, scaled(x, 0.5), added(scaled(x, -0.7), noise(x.size(), -70, 3))});
  }();
  return audio;
}

std::string text_of(const Sheet& sheet) {
  std::string text;
  const auto add = [&](const std::optional<double>& value) {
    text += value ? std::to_string(std::bit_cast<std::uint64_t>(*value)) + " " : "- ";
  };
  for (const Reading& reading : sheet.readings) {
    text += reading.name + " ";
    add(reading.value);
    add(reading.floor);
    add(reading.uncertainty);
  }
  for (const Curve& curve : sheet.curves)
    for (const double y : curve.y) add(y);
  for (const Finding& finding : sheet.findings) text += finding.text + "\n";
  return text;
}

template <typename Measure>
void expect_the_same(const std::string& what, Measure&& measured) {
  std::string alone;
  for (const int threads : {1, 2, 5}) {
    const ThreadAllowance allowance(threads);
    const std::string text = text_of(measured());
    if (threads == 1) {
      alone = text;
      EXPECT_GT(text.size(), 200U) << what;
    } else {
      EXPECT_TRUE(text == alone) << what << " with " << threads << " threads";
    }
  }
}

TEST(Threads, OneCaptureReadsTheSame) {
  MemorySource source(music());
  const CaptureInfo info{.sample_rate_hz = kRate, .channels = 3};
  expect_the_same("health", [&] {
    HealthOptions options;
    return health_sheet(check_health(source, nullptr, options), info);
  });
  expect_the_same("levels", [&] { return levels_sheet(measure_levels(taken(source)), info); });
  expect_the_same("noise", [&] { return noise_sheet(measure_noise(taken(source)), info); });
  expect_the_same("spectrum", [&] {
    return spectrum_sheet(measure_spectrum(taken(source), {.peak_hold = true, .bands_per_octave = 3}), info);
  });
}

TEST(Threads, TwoCapturesReadTheSame) {
  const Signal x = programme("voice", kRate, 4);
  const auto late = [&](double gain, std::uint64_t seed) {
    return added(scaled(moved(x, 37.4, 20), gain), noise(x.size(), -80, seed));
  };
  const Audio a = channels_of({x, scaled(x, 0.8)}), b = channels_of({late(0.5, 4), late(0.6, 5)});
  MemorySource from(a), against(b);
  expect_the_same("null", [&] {
    const CaptureInfo info{.sample_rate_hz = kRate, .channels = 2};
    return null_sheet(measure_null(taken(from), taken(against)), info, info);
  });
}

// A row of hits that fade, each of its own noise.
Signal row_of_hits(double seconds) {
  Signal row(static_cast<std::size_t>(seconds * kRate));
  for (std::uint64_t hit = 0; 20000 * (hit + 1) < row.size(); ++hit) {
    const Signal sound = noise(8000, -20 - 3.0 * static_cast<double>(hit % 3), 40 + hit);
    for (std::size_t n = 0; n < sound.size(); ++n)
      row[20000 * hit + 6000 + n] += sound[n] * std::exp(-static_cast<double>(n) / 1200);
  }
  return row;
}

TEST(Threads, CapturesAreLinedUpTheSame) {
  const Signal music = programme("chamber", kRate, 8), voice = programme("voice", kRate, 8),
               row = row_of_hits(8);
  Signal lost = moved(voice, 300.3, 0);
  lost.erase(lost.begin() + 170000, lost.begin() + 171111);
  Signal repeated = music;
  repeated.insert(repeated.begin() + 100000, music.begin() + 97000, music.begin() + 100000);
  const std::vector<std::pair<Signal, Signal>> pairs = {{music, moved(music, -4000.4, 35)},
                                                        {voice, added(lost, noise(lost.size(), -70, 3))},
                                                        {music, repeated},
                                                        {row, moved(row, 733.3, 0)},
                                                        {voice, music}};
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const Audio a = channels_of({pairs[i].first}), b = channels_of({pairs[i].second});
    std::string alone;
    for (const int threads : {1, 2, 5}) {
      const ThreadAllowance allowance(threads);
      MemorySource reference(a), capture(b);
      std::string text = "nowhere";
      if (const auto found = align(reference, capture)) {
        text.clear();
        for (const double value :
             {found->delay_frames, found->frames_per_frame, found->gain, found->confidence,
              found->uncertainty_frames, found->gain_uncertainty.value_or(-1)})
          text += std::to_string(std::bit_cast<std::uint64_t>(value)) + " ";
        for (const Slip& slip : found->slips)
          text += std::to_string(slip.after_frame) + " " + std::to_string(slip.before_frame) + " " +
                  std::to_string(slip.frames) + "; ";
        for (const double place : found->candidates) text += std::to_string(place) + " ";
      }
      if (threads == 1) {
        alone = text;
        EXPECT_EQ(text == "nowhere", i == 4) << i;
      }
      EXPECT_EQ(text, alone) << i << " with " << threads << " threads";
    }
  }
}

Signal tones_and_pauses() {
  Recipe recipe{.sample_rate_hz = kRate, .bits = 32, .marks = false};
  for (const double hz : {997.0, 3000.0, 60.0})
    recipe.parts.push_back({.kind = Tone{.frequency_hz = hz, .seconds = 0.6}, .silence_before_s = 0.3});
  recipe.parts.push_back({.kind = Sweep{.seconds = 1}, .silence_before_s = 0.3});
  recipe.parts.push_back({.kind = Noise{.seconds = 1}, .silence_before_s = 0.3});
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 440, .seconds = 0.8}, .silence_before_s = 0.3});
  Stimulus stimulus(recipe);
  Signal x(static_cast<std::size_t>(stimulus.frames()));
  stimulus.render(0, 0, x);
  return x;
}

TEST(Threads, IslandsAreRecognisedTheSame) {
  const Audio audio = channels_of({tones_and_pauses()});
  std::string alone;
  for (const int threads : {1, 2, 5}) {
    const ThreadAllowance allowance(threads);
    MemorySource source(audio);
    const Recognition found = recognise(source);
    std::string text;
    for (const RecognisedPart& part : found.parts)
      text += described(part) + " at " + std::to_string(part.first_frame) + " " +
              std::to_string(std::bit_cast<std::uint64_t>(part.level_dbfs)) + " " +
              std::to_string(std::bit_cast<std::uint64_t>(part.stray_db.value_or(1))) + "\n";
    EXPECT_EQ(found.parts.size(), 4U) << text;  // three of the tones are steps
    if (threads == 1) alone = text;
    EXPECT_EQ(text, alone) << threads;
  }
}

// A ramp through a curve lies where the curve leaves nothing: several places are tried.
TEST(Threads, WhatIsBentIsLinedUpTheSame) {
  Signal x(19200, 0.0);
  for (int n = 0; n < 5 * 48000; ++n) {
    const double t = n / kRate;
    x.push_back(ratio_from_db(-40 + 7.5 * t) * std::sin(2 * std::numbers::pi * 997 * t));
  }
  x.resize(x.size() + 9600, 0.0);
  Signal bent = moved(x, 261.3);
  for (double& v : bent) v = std::tanh(2 * v);
  const Audio a = channels_of({x}), b = channels_of({added(bent, noise(bent.size(), -100, 3))});
  std::optional<double> alone;
  for (const int threads : {1, 2, 5}) {
    const ThreadAllowance allowance(threads);
    MemorySource reference(a), capture(b);
    const auto found = align(reference, capture);
    ASSERT_TRUE(found) << threads;
    EXPECT_NEAR(found->delay_frames, 261.3, 0.01);
    if (threads == 1) alone = found->delay_frames;
    EXPECT_EQ(found->delay_frames, alone) << threads;
  }
}

TEST(Threads, SpeedsAreTriedTheSame) {
  const Signal x = programme("voice", kRate, 4);
  const Audio a = channels_of({x}), b = channels_of({moved(x, 300.3, -6000)});
  std::optional<double> alone;
  for (const int threads : {1, 2, 5}) {
    const ThreadAllowance allowance(threads);
    MemorySource reference(a), capture(b);
    const auto found = speed_between(reference, capture);
    ASSERT_TRUE(found) << threads;
    EXPECT_NEAR(*found, 1 - 6e-3, 2e-4);
    if (threads == 1) alone = found;
    EXPECT_EQ(found, alone) << threads;
  }
}

TEST(Threads, DetectorsAreToldTheSame) {
  GainOverTime gain;
  for (int n = -200; n < 8000; ++n) {
    gain.time_s.push_back(n * 1e-3);
    gain.gain_db.push_back(
        -12 * (n < 0 ? 1 : 0.6 * std::exp(-n * 1e-3 / 0.08) + 0.4 * std::exp(-n * 1e-3 / 0.9)) +
        0.01 * gaussian(5, static_cast<std::uint64_t>(n + 200)));
  }
  std::string alone;
  for (const int threads : {1, 2, 5}) {
    const ThreadAllowance allowance(threads);
    std::string text;
    for (const ModelFit& fit :
         measure_gain_step(gain, {.from_dbfs = -10, .to_dbfs = -40, .release = true}).models)
      text += std::to_string(static_cast<int>(fit.model)) + " " +
              std::to_string(std::bit_cast<std::uint64_t>(fit.constant_s)) + " " +
              std::to_string(std::bit_cast<std::uint64_t>(fit.error_db)) + "; ";
    if (threads == 1) alone = text;
    EXPECT_GT(text.size(), 60U);
    EXPECT_EQ(text, alone) << threads;
  }
}

// A source that tells what becomes of it.
class Watched : public AudioSource {
 public:
  explicit Watched(const Audio& audio) : source_(audio) {}
  double sample_rate_hz() const noexcept override { return source_.sample_rate_hz(); }
  int channel_count() const noexcept override { return source_.channel_count(); }
  std::int64_t frames() const noexcept override { return source_.frames(); }
  void read(std::int64_t first, std::span<double> planar) override {
    if (inside_.fetch_add(1) > 0) by_two_at_once = true;
    std::this_thread::yield();
    const int number = reads++;
    inside_.fetch_sub(1);
    if (number >= fails_from) throw Error(ErrorCode::bad_input, "the disk is gone");
    source_.read(first, planar);
  }
  std::atomic<bool> by_two_at_once = false;
  std::atomic<int> reads = 0;
  int fails_from = 1 << 30;

 private:
  MemorySource source_;
  std::atomic<int> inside_ = 0;
};

TEST(Threads, ASourceIsReadByOneAtATime) {
  const Signal x = programme("voice", kRate, 4);
  const Audio a = channels_of({x, scaled(x, 0.8)}), late = channels_of({moved(x, 37.4, 20), x}),
              whole = channels_of({moved(x, 37, 0), scaled(x, 0.5)});
  const ThreadAllowance allowance(3);
  for (const Audio* other : {&late, &whole}) {
    Watched from(a), against(*other);
    (void)measure_null(taken(from), taken(against));
    EXPECT_FALSE(from.by_two_at_once || against.by_two_at_once);
    EXPECT_GT(against.reads, 10);
  }
  // With itself, which is read for both.
  Watched both(a);
  const JudgedCapture capture = taken(both);
  EXPECT_TRUE(measure_null(capture, capture).equal);
  EXPECT_FALSE(both.by_two_at_once);
}

TEST(Threads, WhatCannotBeReadIsToldWhoeverReadsIt) {
  const Signal x = programme("voice", kRate, 3);
  const Audio a = channels_of({x}), b = channels_of({moved(x, 37.4, 20)});
  for (const int threads : {1, 3}) {
    const ThreadAllowance allowance(threads);
    Watched from(a), against(b);
    (void)measure_null(taken(from), taken(against));
    // Among the last reads of either: what is taken away is read then.
    for (const int before_the_end : {4, 3}) {
      Watched first(a), second(b);
      first.fails_from = from.reads - before_the_end;
      EXPECT_EQ(message_of(ErrorCode::bad_input, [&] { (void)measure_null(taken(first), taken(second)); }),
                "the disk is gone");
      Watched third(a), fourth(b);
      fourth.fails_from = against.reads - before_the_end;
      EXPECT_EQ(message_of(ErrorCode::bad_input, [&] { (void)measure_null(taken(third), taken(fourth)); }),
                "the disk is gone");
    }
  }
}

TEST(Threads, ASweepReadsTheSame) {
  Recipe recipe;
  recipe.parts.push_back({.kind = Sweep{.seconds = 4, .level_dbfs = -1}});
  const auto stimulus = std::make_shared<Stimulus>(recipe);
  Audio audio(kRate, 1, stimulus->frames());
  stimulus->render(0, 0, audio.channel(0));
  for (double& v : audio.channel(0)) v -= 0.1 * v * v * v;
  const auto capture = judge(audio, SampleFormat::float64, {stimulus, std::nullopt});
  expect_the_same("aliasing", [&] {
    return aliasing_sheet(measure_aliasing(capture, 0), {.sample_rate_hz = kRate, .channels = 1});
  });
}

TEST(Threads, WhatIsBrokenIsNamedByItsFirstPlace) {
  Audio audio = channels_of({programme("chamber", kRate, 4)});
  audio.channel(0)[150000] = NAN;
  for (const int threads : {1, 3}) {
    const ThreadAllowance allowance(threads);
    LevelMeter meter(1, kRate, {});
    EXPECT_NE(message_of(ErrorCode::bad_input,
                         [&] {
                           meter.push(std::as_const(audio).channel(0));
                           (void)meter.finish();
                         })
                  .find("frame 150000"),
              std::string::npos);
  }
}

}  // namespace
}  // namespace wavicon::threads_test
