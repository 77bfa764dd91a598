// SPDX-License-Identifier: MIT
// What holds of every measurement of one capture, whatever it measures: a gain moves levels and nothing else,
// channels know nothing of each other, rates and channel counts change nothing.

#include <functional>
#include <set>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/measure/levels/levels.hpp"
#include "wavicon/measure/noise/noise.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"

namespace wavicon::properties_test {
namespace {

using namespace testing;

constexpr double kSameDb = 0.002;     // of a level
constexpr double kSameShare = 0.002;  // of anything else
constexpr double kSeconds = 1.2;

// A tone with harmonics, hum and noise, another on each channel.
Signal capture_signal(double rate, int channel) {
  const auto length = static_cast<std::size_t>(kSeconds * rate);
  Signal x = noise(length, -75, 20 + static_cast<std::uint64_t>(channel));
  const double hz = 997 + 40 * channel;
  for (std::size_t n = 0; n < length; ++n) {
    const auto frame = static_cast<std::int64_t>(n);
    x[n] += 0.1 * exact_sine(hz, rate, frame) + 1e-3 * exact_sine(2 * hz, rate, frame) +
            4e-4 * exact_sine(3 * hz, rate, frame) + 2e-4 * exact_sine(50, rate, frame) + 1e-3;
  }
  return x;
}

struct Measurement {
  std::string name;
  std::function<Sheet(const Audio&)> of;
};

CaptureInfo info_of(const Audio& audio) {
  return {
      .sample_rate_hz = audio.sample_rate_hz(), .channels = audio.channel_count(), .frames = audio.frames()};
}

const std::vector<Measurement>& measurements() {
  static const std::vector<Measurement> all = {
      {"levels",
       [](const Audio& audio) {
         MemorySource source(audio);
         return levels_sheet(measure_levels(taken(source)), info_of(audio));
       }},
      {"spectrum",
       [](const Audio& audio) {
         MemorySource source(audio);
         return spectrum_sheet(measure_spectrum(taken(source), {.bands_per_octave = 3, .most_peaks = 3}),
                               info_of(audio));
       }},
      {"noise",
       [](const Audio& audio) {
         MemorySource source(audio);
         return noise_sheet(measure_noise(taken(source)), info_of(audio));
       }},
      {"harmonics",
       [](const Audio& audio) { return harmonics_sheet(measure_harmonics(taken(audio)), info_of(audio)); }}};
  return all;
}

// Readings of one channel, in order; those that are a bound go by the noise and are left out.
std::vector<Reading> readings_of(const Sheet& sheet, int channel) {
  std::vector<Reading> readings;
  for (const Reading& r : sheet.readings)
    if (r.channel == channel && !r.bound && r.value) readings.push_back(r);
  return readings;
}

bool is_level(const Reading& r) { return r.unit == "dBFS" || r.unit == "dBTP" || r.unit == "LUFS"; }

void expect_moved(const Reading& before, const Reading& after, double by_db, const std::string& what) {
  ASSERT_EQ(before.name, after.name) << what;
  const std::string which = what + ": " + before.name;
  if (is_level(before) || before.unit == "dB" || before.unit == "dBc") {
    EXPECT_NEAR(*after.value - *before.value, is_level(before) ? by_db : 0, kSameDb) << which;
    return;
  }
  // Amplitudes as such, with full scale 1, scale.
  static const std::set<std::string> kAmplitudes = {"rms", "dc_offset"};
  const double scale = kAmplitudes.count(before.name) > 0 ? ratio_from_db(by_db) : 1;
  EXPECT_NEAR(*after.value, scale * *before.value, kSameShare * std::abs(scale * *before.value) + 1e-12)
      << which;
}

// Readings that refer to full scale and are no level.
bool goes_by_full_scale(const Reading& r) {
  static const std::set<std::string> kNames = {"over_16_bit_db",     "over_24_bit_db",     "dynamic_range_db",
                                               "dynamic_range_a_db", "dynamic_range_bits", "effective_bits"};
  return kNames.count(r.name) > 0;
}

TEST(Properties, AGainMovesLevelsAndNothingElse) {
  for (const double rate : {44100.0, 192000.0})
    for (const Measurement& measurement : measurements())
      for (const double by_db : {-20.0, 13.0}) {
        const Signal x = capture_signal(rate, 0);
        const auto before = readings_of(measurement.of(audio_of(x, rate)), 0),
                   after = readings_of(measurement.of(audio_of(scaled(x, ratio_from_db(by_db)), rate)), 0);
        ASSERT_EQ(before.size(), after.size()) << measurement.name;
        ASSERT_GT(before.size(), 3U);
        for (std::size_t i = 0; i < before.size(); ++i)
          if (!goes_by_full_scale(before[i]))
            expect_moved(before[i], after[i], by_db, measurement.name + " at " + std::to_string(rate));
      }
}

TEST(Properties, PolarityChangesNothingButTheSignOfDc) {
  const double rate = 48000;
  const Signal x = capture_signal(rate, 0);
  for (const Measurement& measurement : measurements()) {
    const auto before = readings_of(measurement.of(audio_of(x, rate)), 0),
               after = readings_of(measurement.of(audio_of(scaled(x, -1), rate)), 0);
    ASSERT_EQ(before.size(), after.size()) << measurement.name;
    for (std::size_t i = 0; i < before.size(); ++i) {
      if (before[i].unit == "deg") continue;  // of even orders
      const double sign = before[i].name == "dc_offset" ? -1 : 1;
      EXPECT_NEAR(*after[i].value, sign * *before[i].value, 1e-6 * std::abs(*before[i].value) + 1e-9)
          << measurement.name << ": " << before[i].name;
    }
  }
}

TEST(Properties, ChannelsKnowNothingOfEachOther) {
  const double rate = 48000;
  const Signal left = capture_signal(rate, 0), right = capture_signal(rate, 1);
  const auto two = [&](const Signal& a, const Signal& b) {
    Audio audio(rate, 2, static_cast<std::int64_t>(a.size()));
    std::copy(a.begin(), a.end(), audio.channel(0).begin());
    std::copy(b.begin(), b.end(), audio.channel(1).begin());
    return audio;
  };
  for (const Measurement& measurement : measurements()) {
    const Sheet there = measurement.of(two(left, right)), back = measurement.of(two(right, left)),
                alone = measurement.of(audio_of(right, rate));
    for (const auto& [p, q] : {std::pair{readings_of(there, 1), readings_of(back, 0)},
                               {readings_of(there, 1), readings_of(alone, 0)},
                               {readings_of(there, 0), readings_of(back, 1)}}) {
      ASSERT_EQ(p.size(), q.size()) << measurement.name;
      for (std::size_t i = 0; i < p.size(); ++i) {
        EXPECT_EQ(p[i].name, q[i].name) << measurement.name;
        EXPECT_DOUBLE_EQ(*p[i].value, *q[i].value) << measurement.name << ": " << p[i].name;
      }
    }
  }
}

TEST(Properties, SixtyFourChannelsAndThreeQuartersOfAMegahertzReadTheSame) {
  const double rate = 48000;
  const Signal x = capture_signal(rate, 0);
  Audio many(rate, 64, static_cast<std::int64_t>(x.size()));
  for (int c = 0; c < 64; ++c) std::copy(x.begin(), x.end(), many.channel(c).begin());
  for (const Measurement& measurement : measurements()) {
    const auto one = readings_of(measurement.of(audio_of(x, rate)), 0);
    const Sheet all = measurement.of(many);
    for (const int channel : {0, 31, 63}) {
      const auto here = readings_of(all, channel);
      ASSERT_EQ(here.size(), one.size()) << measurement.name;
      for (std::size_t i = 0; i < one.size(); ++i)
        EXPECT_DOUBLE_EQ(*here[i].value, *one[i].value) << measurement.name << ": " << one[i].name;
    }
    // The tone and its harmonics lie where they lay.
    const Sheet fast = measurement.of(audio_of(capture_signal(768000, 0), 768000));
    for (const char* name :
         {"rms_dbfs", "peak_dbfs", "fundamental_hz", "fundamental_dbfs", "h2_dbc", "h3_dbc"}) {
      const Reading *slow = nullptr, *there = find_reading(fast, name, 0);
      for (const Reading& r : one)
        if (r.name == name) slow = &r;
      if (slow == nullptr || there == nullptr) continue;
      EXPECT_NEAR(*there->value, *slow->value, 0.05) << measurement.name << ": " << name;
    }
  }
}

TEST(Properties, EveryReadingIsAFiniteNumberOrThereIsNone) {
  // Silence, one frame, full scale of one sign, the smallest number there is.
  for (const double rate : {8000.0, 48000.0})
    for (const std::size_t frames : {1U, 2U, 100U, 48000U})
      for (const double value : {0.0, 1.0, -1.0, 5e-324, 1e300}) {
        const Audio audio = audio_of(Signal(frames, value), rate);
        for (const Measurement& measurement : measurements()) {
          const std::string what = measurement.name + ", " + std::to_string(frames) + " frames of " +
                                   std::to_string(value) + " at " + std::to_string(rate);
          try {
            const Sheet sheet = measurement.of(audio);
            for (const Reading& r : sheet.readings) {
              EXPECT_TRUE(!r.value || std::isfinite(*r.value)) << what << ": " << r.name;
              EXPECT_TRUE(!r.floor || std::isfinite(*r.floor)) << what << ": floor of " << r.name;
            }
            for (const Curve& curve : sheet.curves)
              for (const double y : curve.y) ASSERT_TRUE(std::isfinite(y)) << what << ": " << curve.name;
          } catch (const Error& error) {
            EXPECT_GT(std::string(error.what()).size(), 10U) << what;
          }
        }
      }
}

}  // namespace
}  // namespace wavicon::properties_test
