// Heron and Curlew do what their settings say: checked against closed forms, not against our measurements.

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/path/chain.hpp"

namespace wavicon {
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

}  // namespace
}  // namespace wavicon
