// SPDX-License-Identifier: MIT
// What is pushed in blocks of any length and shape reads what the same seconds read in a file; views are
// measured where they lie.

#include "wavicon/measure/rolling.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <numbers>
#include <thread>

#include "judged.hpp"
#include "support.hpp"
#include "wavicon/audio/audio_view.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::rolling_test {
namespace {

using testing::message_of;

constexpr double kRate = 48000;

// A tone with a third harmonic at -40 dBc and noise around -80 dBFS, other on each channel.
Audio signal(double seconds, int channels = 2, double noise_peak = 1.5e-4) {
  Audio audio(kRate, channels, std::llround(seconds * kRate));
  std::uint64_t state = 7;
  for (int c = 0; c < channels; ++c)
    for (std::int64_t n = 0; n < audio.frames(); ++n) {
      state = state * 6364136223846793005u + 1442695040888963407u;
      const double noise = (static_cast<double>(state >> 33) / 2147483648.0 - 0.5) * 2 * noise_peak;
      const double phase = 2 * std::numbers::pi * 997 * static_cast<double>(n) / kRate + c;
      audio.channel(c)[static_cast<std::size_t>(n)] =
          0.2 * std::sin(phase) + 0.002 * std::sin(3 * phase) + noise;
    }
  return audio;
}

enum class Shape { planar_double, planar_float, interleaved_double, interleaved_float };

template <typename T>
void push_all(Rolling& rolling, const Audio& audio, bool interleaved) {
  const auto channels = static_cast<std::size_t>(audio.channel_count());
  const std::int64_t lengths[] = {1, 480, 37, 4096, 64};
  std::int64_t at = 0;
  for (std::size_t turn = 0; at < audio.frames(); ++turn) {
    const std::int64_t count = std::min(lengths[turn % 5], audio.frames() - at);
    std::vector<std::vector<T>> planar(channels);
    std::vector<const T*> pointers;
    std::vector<T> woven;
    for (std::size_t c = 0; c < channels; ++c) {
      for (std::int64_t n = 0; n < count; ++n)
        planar[c].push_back(
            static_cast<T>(audio.channel(static_cast<int>(c))[static_cast<std::size_t>(at + n)]));
      pointers.push_back(planar[c].data());
    }
    for (std::size_t n = 0; n < static_cast<std::size_t>(count); ++n)
      for (std::size_t c = 0; c < channels; ++c) woven.push_back(planar[c][n]);
    if (interleaved)
      rolling.push_interleaved(woven.data(), count);
    else
      rolling.push(pointers.data(), count);
    at += count;
  }
}

void push(Rolling& rolling, const Audio& audio, Shape shape) {
  if (shape == Shape::planar_double) push_all<double>(rolling, audio, false);
  if (shape == Shape::planar_float) push_all<float>(rolling, audio, false);
  if (shape == Shape::interleaved_double) push_all<double>(rolling, audio, true);
  if (shape == Shape::interleaved_float) push_all<float>(rolling, audio, true);
}

Audio last(const Audio& audio, double seconds, bool narrowed) {
  Audio window(kRate, audio.channel_count(), std::llround(seconds * kRate));
  for (int c = 0; c < audio.channel_count(); ++c)
    for (std::int64_t n = 0; n < window.frames(); ++n) {
      const double x = audio.channel(c)[static_cast<std::size_t>(audio.frames() - window.frames() + n)];
      const float narrow = static_cast<float>(x);
      window.channel(c)[static_cast<std::size_t>(n)] = narrowed ? static_cast<double>(narrow) : x;
    }
  return window;
}

const Reading* find(const std::vector<Sheet>& sheets, const std::string& name, int channel = 0) {
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings)
      if (r.name == name && (!r.channel || *r.channel == channel)) return &r;
  return nullptr;
}

void expect_same(const std::vector<Sheet>& rolled, const std::vector<Sheet>& filed) {
  ASSERT_EQ(rolled.size(), filed.size());
  for (std::size_t s = 0; s < filed.size(); ++s) {
    ASSERT_EQ(rolled[s].readings.size(), filed[s].readings.size());
    for (std::size_t i = 0; i < filed[s].readings.size(); ++i) {
      const Reading &a = rolled[s].readings[i], &b = filed[s].readings[i];
      EXPECT_EQ(a.name, b.name);
      EXPECT_EQ(a.value, b.value) << a.name;
      EXPECT_EQ(a.uncertainty, b.uncertainty) << a.name;
      EXPECT_EQ(a.floor, b.floor) << a.name;
    }
  }
}

TEST(Rolling, ReadsWhatTheSameSecondsReadInAFile) {
  const Audio audio = signal(1.7);
  for (const char* name : {"levels", "spectrum", "noise", "harmonics"}) {
    const MeasurementDescriptor& descriptor = *find_measurement(measurements(), name);
    for (const Shape shape :
         {Shape::planar_double, Shape::planar_float, Shape::interleaved_double, Shape::interleaved_float}) {
      Rolling rolling(name, {.window_s = 1});
      rolling.prepare(kRate, 2);
      push(rolling, audio, shape);
      EXPECT_NEAR(rolling.pushed_s(), 1.7, 1e-9);
      const bool narrowed = shape == Shape::planar_float || shape == Shape::interleaved_float;
      const auto filed = measure_by_name(
          name,
          testing::taken(last(audio, 1, narrowed), narrowed ? SampleFormat::float32 : SampleFormat::float64));
      SCOPED_TRACE(name);
      expect_same(rolling.sheets(), filed);
    }
    EXPECT_EQ(descriptor.name, name);
  }
}

TEST(Rolling, TwoStreamsAreLinedUpAndNulled) {
  const Audio sent = signal(1.5, 1, 0.2);  // a tone alone could be lined up at any of its periods
  Audio back(kRate, 1, sent.frames());
  constexpr std::int64_t kDelay = 96;
  for (std::int64_t n = kDelay; n < sent.frames(); ++n)
    back.channel(0)[static_cast<std::size_t>(n)] =
        static_cast<float>(-0.5 * sent.channel(0)[static_cast<std::size_t>(n - kDelay)]);
  // What narrowing leaves is some 150 dB down.
  Rolling null("null", {.window_s = 1}), latency("latency", {.window_s = 1});
  for (Rolling* rolling : {&null, &latency}) {
    rolling->prepare(kRate, 1);
    for (std::int64_t at = 0; at + 500 <= sent.frames(); at += 500) {
      const double* a[] = {sent.channel(0).data() + at};
      const double* b[] = {back.channel(0).data() + at};
      rolling->push(a, b, 500);
    }
  }
  const auto sheets = null.sheets();
  ASSERT_NE(find(sheets, "null_depth_db"), nullptr);
  EXPECT_LT(find(sheets, "null_depth_db")->value.value(), -100);
  EXPECT_NEAR(find(sheets, "delay_samples")->value.value(), 96, 0.01);
  EXPECT_NEAR(find(sheets, "gain_db")->value.value(), -6.0206, 0.001);
  EXPECT_EQ(find(sheets, "polarity")->value.value(), -1);
  EXPECT_NEAR(find(latency.sheets(), "latency_samples")->value.value(), 96, 0.01);
}

// A stimulus between marks that is played over and over: its delay is read by them, whatever sounds between.
TEST(Rolling, LatencyByMarks) {
  Recipe recipe;
  recipe.sample_rate_hz = kRate;
  recipe.parts = {{.kind = Tone{.frequency_hz = 997, .level_dbfs = -20, .seconds = 0.5}}};
  const auto stimulus = std::make_shared<Stimulus>(recipe);
  Audio sent(kRate, 1, stimulus->frames() + 24000), back(kRate, 1, stimulus->frames() + 24000);
  stimulus->render(0, 0, sent.channel(0).first(static_cast<std::size_t>(stimulus->frames())));
  constexpr std::int64_t kDelay = 1285;
  for (std::int64_t n = kDelay; n < back.frames(); ++n)
    back.channel(0)[static_cast<std::size_t>(n)] =
        0.3 * sent.channel(0)[static_cast<std::size_t>(n - kDelay)];
  Rolling latency("latency", {.window_s = sent.seconds(), .stimulus = stimulus});
  latency.prepare(kRate, 1);
  const double* a[] = {sent.channel(0).data()};
  const double* b[] = {back.channel(0).data()};
  latency.push(a, b, sent.frames());
  const auto sheets = latency.sheets();
  ASSERT_NE(find(sheets, "latency_samples"), nullptr);
  EXPECT_NEAR(find(sheets, "latency_samples")->value.value(), 1285, 0.01);
}

TEST(Rolling, HealthOfAStream) {
  Audio audio = signal(1, 1);
  for (std::size_t n = 20000; n < 20300; ++n) audio.channel(0)[n] = 0;
  Rolling health("health", {.window_s = 1});
  health.prepare(kRate, 1);
  push(health, audio, Shape::planar_float);
  const auto sheets = health.sheets();
  ASSERT_NE(find(sheets, "dropout_count"), nullptr);
  EXPECT_EQ(find(sheets, "dropout_count")->value.value(), 1);
  // Every other measurement says so beside its figures.
  Rolling levels("levels", {.window_s = 1});
  levels.prepare(kRate, 1);
  push(levels, audio, Shape::planar_float);
  const auto spoiled = levels.sheets();
  ASSERT_EQ(spoiled.size(), 1U);
  EXPECT_TRUE(std::any_of(spoiled[0].findings.begin(), spoiled[0].findings.end(),
                          [](const Finding& f) { return f.code == FindingCode::dropout; }));
}

TEST(Rolling, EdgesAreTold) {
  Rolling levels("levels", {.window_s = 0.5});
  EXPECT_TRUE(levels.sheets().empty()) << "not prepared";
  const float one = 0.5F;
  const float* planar[] = {&one};
  levels.push(planar, 1);  // nothing happens
  levels.prepare(kRate, 1);
  EXPECT_TRUE(levels.sheets().empty()) << "nothing pushed";
  levels.push(planar, 1);
  EXPECT_TRUE(levels.sheets().empty()) << "less than a window";
  Audio broken = signal(0.5, 1);
  broken.channel(0)[100] = std::numeric_limits<double>::quiet_NaN();
  push(levels, broken, Shape::planar_double);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)levels.sheets(); }).find("NaN"), std::string::npos);
  push(levels, signal(0.5, 1), Shape::planar_double);
  EXPECT_FALSE(levels.sheets().empty()) << "it has passed";
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { Rolling("levles"); }).find("levels"), std::string::npos);
  message_of(ErrorCode::bad_argument, [] { Rolling("takes"); });
  message_of(ErrorCode::bad_argument, [] { Rolling("levels", {.window_s = 0}); });
  message_of(ErrorCode::bad_argument, [] { Rolling("levels", {.window_s = std::nan("")}); });
  message_of(ErrorCode::bad_argument, [&] { levels.prepare(0, 1); });
  message_of(ErrorCode::bad_argument, [&] { levels.prepare(kRate, 0); });
  Rolling wide("levels", {.window_s = 0.05});
  wide.prepare(768000, 64);
  push(wide, signal(1, 64), Shape::interleaved_float);
  ASSERT_FALSE(wide.sheets().empty());
  EXPECT_NE(find(wide.sheets(), "rms_dbfs", 63), nullptr);
}

// One thread pushes, another asks.
TEST(Rolling, IsAskedWhileItIsPushed) {
  const Audio audio = signal(0.5, 1);
  Rolling levels("levels", {.window_s = 0.2});
  levels.prepare(kRate, 1);
  std::atomic<bool> enough{false};
  std::thread pushing([&] {
    while (!enough) push(levels, audio, Shape::planar_double);
  });
  for (int asked = 0; asked < 50;) {
    const auto sheets = levels.sheets();
    if (sheets.empty()) continue;
    ++asked;
    EXPECT_NEAR(find(sheets, "peak_dbfs")->value.value(), -13.9, 0.3);
  }
  enough = true;
  pushing.join();
}

TEST(AudioView, IsMeasuredWhereItLies) {
  const Audio audio = signal(1);
  std::vector<float> woven;
  std::vector<double> woven_double;
  std::vector<std::vector<float>> floats(2);
  for (std::int64_t n = 0; n < audio.frames(); ++n)
    for (int c = 0; c < 2; ++c) {
      const double x = audio.channel(c)[static_cast<std::size_t>(n)];
      woven.push_back(static_cast<float>(x));
      woven_double.push_back(x);
      floats[static_cast<std::size_t>(c)].push_back(static_cast<float>(x));
    }
  const double* doubles[] = {audio.channel(0).data(), audio.channel(1).data()};
  const float* singles[] = {floats[0].data(), floats[1].data()};
  const auto wide = measure_by_name("harmonics", testing::taken(audio));
  const auto narrow = measure_by_name("harmonics", judge(last(audio, 1, true), SampleFormat::float32));
  expect_same(measure_by_name("harmonics", judge(AudioView(doubles, audio.frames(), kRate))), wide);
  expect_same(measure_by_name("harmonics",
                              judge(AudioView::interleaved(std::span<const double>(woven_double), 2, kRate))),
              wide);
  expect_same(measure_by_name("harmonics", judge(AudioView(singles, audio.frames(), kRate))), narrow);
  expect_same(
      measure_by_name("harmonics", judge(AudioView::interleaved(std::span<const float>(woven), 2, kRate))),
      narrow);
  // It is a view: what changes below it is seen.
  const AudioView view = AudioView::interleaved(std::span<const float>(woven), 2, kRate);
  woven[11] = 0.75F;
  std::vector<double> read(4);
  view.read(1, 4, read);
  EXPECT_EQ(read[1], 0.75);
  view.read(1, view.frames() - 1, read);
  EXPECT_EQ(read[1], 0) << "behind the end";
  view.read(1, -2, read);
  EXPECT_EQ(read[1], 0) << "before the beginning";
  EXPECT_EQ(read[2], static_cast<double>(woven[1]));
  EXPECT_TRUE(view.is_float());
  message_of(ErrorCode::bad_argument,
             [&] { (void)AudioView::interleaved(std::span<const float>(woven), 7, kRate); });
  message_of(ErrorCode::bad_argument,
             [&] { (void)AudioView::interleaved(std::span<const float>(woven), 0, kRate); });
  message_of(ErrorCode::bad_argument, [&] { (void)AudioView(singles, -1, kRate); });
  message_of(ErrorCode::bad_argument, [&] { (void)AudioView(singles, 1, 0); });
  EXPECT_THROW((void)judge(AudioView(singles, 0, kRate)), Error) << "nothing in it";
}

}  // namespace
}  // namespace wavicon::rolling_test
