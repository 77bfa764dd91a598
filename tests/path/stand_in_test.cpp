// SPDX-License-Identifier: MIT
// Heron and Curlew do what their settings say: checked against closed forms, not against our measurements.

#include <complex>

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/path/chain.hpp"

namespace wavicon::stand_in_test {
namespace {

using namespace testing;

// A unit's output for a signal, all channels the same length.
std::vector<std::vector<double>> fed(const std::string& unit, const std::vector<std::vector<double>>& in,
                                     int block = 512, std::int64_t* latency = nullptr) {
  std::vector<std::unique_ptr<Unit>> units;
  units.push_back(open_unit(parse_unit(unit)));
  Chain chain(std::move(units));
  const std::size_t channels = in.size();
  chain.prepare(48000, static_cast<int>(channels), block);
  std::vector<std::vector<double>> out(channels);
  std::size_t at = 0;
  const auto result = chain.feed(
      [&](std::span<float> samples) {
        for (std::size_t i = 0; i < samples.size(); ++i)
          samples[i] = static_cast<float>(in[i % channels][at + i / channels]);
        at += samples.size() / channels;
        return static_cast<std::int64_t>(samples.size() / channels);
      },
      static_cast<std::int64_t>(in[0].size()),
      [&](std::span<const float> samples) {
        for (std::size_t i = 0; i < samples.size(); ++i) out[i % channels].push_back(samples[i]);
      },
      {.block_frames = block, .keep_latency = true});
  if (latency != nullptr) *latency = result.latency_frames;
  return out;
}

std::vector<double> tone(double hz, double peak, std::size_t frames) {
  std::vector<double> x;
  for (std::size_t n = 0; n < frames; ++n)
    x.push_back(peak * exact_sine(hz, 48000, static_cast<std::int64_t>(n)));
  return x;
}

constexpr double kFloat = 1e-7;  // what a 32-bit float loses near full scale

TEST(Heron, DelaysByWholeAndByPartsOfSamples) {
  const auto x = tone(997, 0.5, 20000);
  for (const int block : {64, 1000})
    for (const double delay : {0.0, 100.0, 261.4, 70000.25}) {
      const auto y = fed("sim:heron?noise=-200&delay=" + std::to_string(delay), {x}, block)[0];
      for (std::size_t n = static_cast<std::size_t>(delay) + 100; n < 20000; n += 97)
        EXPECT_NEAR(y[n], 0.5 * std::sin(2 * M_PI * 997 / 48000 * (static_cast<double>(n) - delay)), kFloat)
            << delay << " " << n;
    }
  std::int64_t reported = 0;
  fed("sim:heron?delay=300&reports=256", {x}, 512, &reported);
  EXPECT_EQ(reported, 256);
}

TEST(Heron, DriftsByPartsPerMillion) {
  const auto x = tone(997, 0.5, 100000);
  const auto y = fed("sim:heron?noise=-200&delay=200&drift=50", {x})[0];
  for (std::size_t n = 1000; n < 100000; n += 997)
    EXPECT_NEAR(y[n], 0.5 * std::sin(2 * M_PI * 997 / 48000 * (static_cast<double>(n) - 200) / (1 + 50e-6)),
                kFloat)
        << n;
}

TEST(Heron, NoiseHumDcGainClipAndCrosstalk) {
  const std::vector<double> silence(48000, 0.0);
  const auto noise = fed("sim:heron?noise=-80&delay=0", {silence, silence});
  double sum = 0, both = 0;
  for (std::size_t n = 0; n < 48000; ++n) {
    sum += noise[0][n] * noise[0][n];
    both += noise[0][n] * noise[1][n];
  }
  EXPECT_NEAR(db_from_ratio(std::sqrt(sum / 48000)), -80, 0.05);
  EXPECT_LT(std::abs(both / sum), 0.02) << "another noise on each channel";
  const auto hum = fed("sim:heron?noise=-200&delay=0&hum=-40&mains=60&dc=0.01", {silence})[0];
  for (std::size_t n = 0; n < 48000; n += 331) {
    double expected = 0.01;
    for (const auto& [line, db] : {std::pair{1, -40.0}, {2, -54.0}, {3, -48.0}})
      expected += ratio_from_db(db) * exact_sine(60.0 * line, 48000, static_cast<std::int64_t>(n));
    EXPECT_NEAR(hum[n], expected, kFloat);
  }
  const auto clipped = fed("sim:heron?noise=-200&delay=0&gain=6&clip=-6",
                           {tone(997, 0.5, 4800), std::vector<double>(4800, 0.0)});
  EXPECT_NEAR(*std::max_element(clipped[0].begin(), clipped[0].end()), ratio_from_db(-6), kFloat);
  EXPECT_EQ(*std::max_element(clipped[1].begin(), clipped[1].end()), 0);
  const auto crossed = fed("sim:heron?noise=-200&delay=0&crosstalk=-60",
                           {tone(997, 0.5, 4800), std::vector<double>(4800, 0.0)});
  EXPECT_NEAR(*std::max_element(crossed[1].begin(), crossed[1].end()), 0.0005, 1e-6);
}

TEST(Curlew, HoldsCoarseValuesAndLeavesItsCarrier) {
  // At its own rate equal to ours nothing is held: only rounding and the filter are left.
  const std::vector<double> constant(4000, 0.3);
  const auto rounded = fed("sim:curlew?bits=4&rate=48000&carrier=-200", {constant})[0];
  EXPECT_NEAR(rounded.back(), 0.25, kFloat) << "0.3 in steps of an eighth";
  const auto carrier = fed("sim:curlew?carrier=-50&carrier_hz=12000", {std::vector<double>(4000, 0.0)})[0];
  EXPECT_NEAR(*std::max_element(carrier.begin(), carrier.end()), ratio_from_db(-50), kFloat);
  const auto held = fed("sim:curlew?bits=16&rate=16000&carrier=-200", {tone(1000, 0.5, 4800)})[0];
  EXPECT_LT(*std::max_element(held.begin(), held.end()), 0.501);
  EXPECT_GT(*std::max_element(held.begin(), held.end()), 0.45);
}

// Amplitude of a tone at the end of a signal, over a whole number of its periods.
double amplitude_of(const std::vector<double>& y, double hz) {
  const std::size_t length = 4800, first = y.size() - length;
  double re = 0, im = 0;
  for (std::size_t n = 0; n < length; ++n) {
    const double turn = 2 * M_PI * hz / 48000 * static_cast<double>(first + n);
    re += y[first + n] * std::cos(turn);
    im += y[first + n] * std::sin(turn);
  }
  return 2 * std::hypot(re, im) / static_cast<double>(length);
}

TEST(Heron, CountsTheBlocksOfTheSessionInItsRoundTrip) {
  const auto x = tone(997, 0.5, 20000);
  for (const int block : {64, 256}) {
    const auto y = fed("sim:heron?noise=-200&delay=60.5&buffers=2", {x}, block)[0];
    const double delay = 60.5 + 2 * block;
    for (std::size_t n = 1000; n < 20000; n += 97)
      EXPECT_NEAR(y[n], 0.5 * std::sin(2 * M_PI * 997 / 48000 * (static_cast<double>(n) - delay)), kFloat)
          << block;
  }
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { (void)open_unit(parse_unit("sim:heron?delay=20.5")); })
                .find("below 48"),
            std::string::npos);
}

TEST(Dunlin, DelaysTurnsAndPicksUpHum) {
  const auto x = tone(1000, 0.25, 20000);
  for (const double delay : {0.0, 1.25, 7.0}) {
    std::int64_t ahead = 0;
    const auto y = fed("sim:dunlin?gain=-6&invert=1&delay=" + std::to_string(delay), {x, x}, 300, &ahead);
    EXPECT_EQ(ahead, delay == 1.25 ? 48 : 0) << "a fraction looks ahead, and says so";
    for (const auto& channel : y)
      for (std::size_t n = 500; n < 20000; n += 97)
        EXPECT_NEAR(channel[n],
                    -ratio_from_db(-6) * 0.25 *
                        std::sin(2 * M_PI * 1000 / 48000 *
                                 (static_cast<double>(n) - delay - static_cast<double>(ahead))),
                    kFloat);
  }
  const std::vector<double> silence(48000, 0.0);
  EXPECT_NEAR(db_from_ratio(amplitude_of(fed("sim:dunlin?hum=-60&mains=60", {silence})[0], 60)), -60, 0.01);
  EXPECT_EQ(amplitude_of(fed("sim:dunlin", {silence})[0], 50), 0);
  // One pole: 3 dB at its corner, as y += s·(x - y) has it, s = 1 - exp(-2π·corner/rate).
  const double s = 1 - std::exp(-2 * M_PI * 2000 / 48000);
  for (const double hz : {100.0, 2000.0, 8000.0}) {
    const double expected = s / std::abs(1.0 - (1 - s) * std::polar(1.0, -2 * M_PI * hz / 48000));
    EXPECT_NEAR(amplitude_of(fed("sim:dunlin?treble=2000", {tone(hz, 0.5, 20000)})[0], hz) / 0.5, expected,
                1e-5)
        << hz;
  }
}

// Analogue sections through the bilinear transform: s = j·tan(π·f/rate) over tan(π·f0/rate).
TEST(Avocet, HasTheCurvesThatItsPanelPromises) {
  const auto warped = [](double hz) { return std::tan(M_PI * hz / 48000); };
  const auto expect = [&](const std::string& unit, double hz, double expected) {
    EXPECT_NEAR(db_from_ratio(amplitude_of(fed("sim:avocet?" + unit, {tone(hz, 0.1, 60000)})[0], hz) / 0.1),
                db_from_ratio(expected), 1e-3)
        << unit << " at " << hz;
  };
  for (int order = 1; order <= 4; ++order)
    for (const double hz : {50.0, 100.0, 200.0, 1000.0}) {
      const double ratio = warped(100) / warped(hz);
      expect("cut_hz=100&cut=" + std::to_string(order), hz, 1 / std::sqrt(1 + std::pow(ratio, 2 * order)));
    }
  for (const double hz : {500.0, 2500.0, 3000.0, 10000.0})
    for (const double db : {9.0, -9.0}) {
      const double w = warped(hz) / warped(3000), a = ratio_from_db(db / 2), q = 2;
      const std::complex<double> s(0, w);
      expect("bell_hz=3000&q=2&bell=" + std::to_string(db), hz,
             std::abs((s * s + s * a / q + 1.0) / (s * s + s / (a * q) + 1.0)));
    }
  // Half of a shelf lies at its corner, whichever way it goes; everything far above, nothing far below.
  for (const double db : {6.0, -6.0}) {
    expect("shelf_hz=4000&shelf=" + std::to_string(db), 4000, ratio_from_db(db / 2));
    expect("shelf_hz=4000&shelf=" + std::to_string(db), 50, 1.0);
  }
  expect("level=-3", 1000, ratio_from_db(-3));
  expect("bell=6&bell_hz=8000&q=8&lift=0.5", 100, ratio_from_db(3));
}

// Gain of the last period of a tone, in dB.
double gain_at_the_end(const std::string& unit, double level_dbfs) {
  const auto in = tone(1000, ratio_from_db(level_dbfs), 48000);
  const auto out = fed(unit, {in})[0];
  double p = 0, q = 0;
  for (std::size_t n = 48000 - 480; n < 48000; ++n) {
    p += in[n] * in[n];
    q += out[n] * out[n];
  }
  return db_from_power_ratio(q / p);
}

TEST(Tern, PlaysTheSameInBlocksOfAnyLength) {
  std::vector<double> x = tone(3001, 0.8, 3000);
  for (const char* unit : {"sim:tern?drive=24", "sim:tern?drive=18&asymmetry=0.4&oversampling=2",
                           "sim:tern?drive=18&oversampling=16", "sim:tern?drive=18&oversampling=4&naive=1"}) {
    const auto expected = fed(unit, {x}, 64)[0];
    for (const int block : {1, 7, 65, 1000}) EXPECT_EQ(fed(unit, {x}, block)[0], expected) << unit << block;
  }
}

TEST(Plover, KeepsItsPanelWithBothDetectors) {
  for (const char* detector : {"peak", "rms"})
    for (const double level : {-30.0, -20.0, -15.0, -8.0, 0.0}) {
      const std::string unit =
          std::string("sim:plover?threshold=-20&ratio=4&attack=5&release=50&makeup=2&detector=") + detector;
      EXPECT_NEAR(gain_at_the_end(unit, level), 2 - 0.75 * std::max(0.0, level + 20), 0.03)
          << detector << level;
      const double over = level + 20;
      const double bent = over <= -5 ? 0 : over >= 5 ? over : (over + 5) * (over + 5) / 20;
      EXPECT_NEAR(gain_at_the_end(unit + "&knee=10", level), 2 - 0.75 * bent, 0.03) << detector << level;
    }
}

TEST(Plover, PeakReductionGoesExponentially) {
  // A level that stands from the start: after one constant 63 % of the reduction are there, 10 constants
  // later all.
  const std::vector<double> in(48000, 0.5);
  const auto out = fed("sim:plover?threshold=-20&ratio=2&attack=10&release=100", {in})[0];
  const double whole = -(db_from_ratio(0.5) + 20) / 2;
  for (const double ms : {5.0, 10.0, 23.026, 100.0}) {
    const auto n = static_cast<std::size_t>(48 * ms);
    EXPECT_NEAR(db_from_ratio(out[n - 1] / 0.5), whole * (1 - std::exp(-ms / 10)), 0.02) << ms;
  }
}

TEST(Plover, HalfOfTheReductionRecoversSlowly) {
  std::vector<double> in(96000, 0.001);
  std::fill(in.begin(), in.begin() + 48000, 0.5);
  const auto out = fed("sim:plover?threshold=-20&ratio=2&attack=1&release=50&release2=500", {in})[0];
  const double whole = -(db_from_ratio(0.5) + 20) / 2;
  for (const double ms : {50.0, 200.0, 600.0}) {
    const auto n = static_cast<std::size_t>(48000 + 48 * (ms + 1));  // the peak is held for a millisecond
    EXPECT_NEAR(db_from_ratio(out[n - 1] / 0.001), whole * (std::exp(-ms / 50) + std::exp(-ms / 500)) / 2,
                0.02)
        << ms;
  }
}

}  // namespace
}  // namespace wavicon::stand_in_test
