// SPDX-License-Identifier: MIT
#include "wavicon/measure/clipping/clipping.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon::clipping_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;

Recipe recipe_of(PartKind kind) {
  Recipe recipe{.sample_rate_hz = kRate, .marks = false};
  recipe.parts.push_back({.name = "climb", .kind = std::move(kind)});
  return recipe;
}

Recipe ramp(double from = -40, double to = 0) {
  return recipe_of(
      Multitone{.oscillators = {{.frequency_hz = 997, .level_dbfs = from, .to_dbfs = to}}, .seconds = 8});
}

Recipe staircase(double step, double last = 0) {
  Staircase kind{.levels_dbfs = {}, .step_s = 0.3};
  for (double level = -30; level <= last; level += step) kind.levels_dbfs.push_back(level);
  return recipe_of(kind);
}

template <typename Device>
ChannelClipping clipped(const Recipe& recipe, const Device& device, const ClippingOptions& options = {},
                        double noise_dbfs = -120) {
  Stimulus stimulus(recipe);
  Signal y = rendered(stimulus);
  for (double& v : y) v = device(v);
  y = added(y, noise(y.size(), noise_dbfs, 5));
  const Audio audio = audio_of(y, kRate);
  MemorySource source(audio);
  return measure_clipping(played(source, stimulus, Take{}), 0, options).channels[0];
}

// Closed forms by integration over one period: orders of a sine of that peak through the device.
struct Orders {
  double gain_db, thd;
};
template <typename Device>
Orders orders_of(const Device& device, double peak) {
  constexpr int kPlaces = 4096;
  double fundamental = 0, power = 0;
  for (int k = 1; k <= 10; ++k) {
    std::complex<double> sum = 0;
    for (int n = 0; n < kPlaces; ++n) {
      const double phase = 2 * M_PI * (n + 0.5) / kPlaces;
      sum += device(peak * std::sin(phase)) * std::polar(2.0 / kPlaces, -k * phase);
    }
    if (k == 1)
      fundamental = std::abs(sum);
    else
      power += std::norm(sum);
  }
  return {db_from_ratio(fundamental / peak), std::sqrt(power) / fundamental};
}

// The level at which the definition is met, by halving.
template <typename Device>
double true_point(const Device& device, double thd, double fall) {
  const double gain = orders_of(device, 1e-3).gain_db;
  double low = -60, high = 20;
  for (int i = 0; i < 60; ++i) {
    const double middle = (low + high) / 2;
    const Orders o = orders_of(device, ratio_from_db(middle));
    (o.thd >= thd || gain - o.gain_db >= fall ? high : low) = middle;
  }
  return high;
}

const auto kHard = [](double v) { return std::clamp(0.7 * v, -0.3, 0.3); };
const auto kSoft = [](double v) { return std::tanh(2 * v) / 2; };
const auto kCubic = [](double v) { return v - 0.3 * v * v * v; };

TEST(Clipping, ARampFindsThePointOfEveryDevice) {
  const auto check = [](const auto& device, ClippingShape shape, const std::string& what) {
    for (const double percent : {0.3, 1.0, 3.0}) {
      const ChannelClipping c = clipped(ramp(), device, {.thd_percent = percent, .compression_db = 0.5});
      ASSERT_TRUE(c.point) << what << percent;
      EXPECT_NEAR(*c.point->in_dbfs, true_point(device, percent / 100, 0.5), 0.05) << what << percent;
    }
    const ChannelClipping c = clipped(ramp(), device);
    EXPECT_NEAR(*c.point->in_dbfs, true_point(device, 0.01, 0.1), 0.05) << what;
    EXPECT_EQ(c.shape, shape) << what << c.span_db;
  };
  check(kHard, ClippingShape::hard, "hard ");
  check(kSoft, ClippingShape::soft, "soft ");
  check(kCubic, ClippingShape::soft, "cubic ");
}

TEST(Clipping, AStaircaseFindsItWithinItsSteps) {
  for (const double step : {0.5, 1.0, 2.0}) {
    EXPECT_NEAR(*clipped(staircase(step), kSoft).point->in_dbfs, true_point(kSoft, 0.01, 0.1), 0.1 * step);
    const ChannelClipping hard = clipped(staircase(step), kHard);
    EXPECT_NEAR(*hard.point->in_dbfs, true_point(kHard, 0.01, 0.1), 0.5 * step);
    EXPECT_EQ(hard.point->step_db, step);
    EXPECT_NEAR(hard.ceiling_dbfs, db_from_ratio(0.3), 0.01);
    EXPECT_NEAR(*hard.gain_db, db_from_ratio(0.7), 0.01);
  }
}

TEST(Clipping, NoiseIsNoClippingAndAWireNeverClips) {
  EXPECT_FALSE(clipped(ramp(), [](double v) { return 0.5 * v; }).point);
  // At -40 dBFS noise of -60 dBFS is 10 %, and still no distortion.
  EXPECT_FALSE(clipped(
                   ramp(), [](double v) { return 0.5 * v; }, {.compression_db = 1}, -60)
                   .point);
  const ChannelClipping c = clipped(staircase(1), [](double v) { return v; });
  EXPECT_FALSE(c.point);
  const Sheet sheet = clipping_sheet({.sample_rate_hz = kRate, .channels = {c}}, {});
  EXPECT_FALSE(find_reading(sheet, "clipping_point_dbfs", 0)->value);
  EXPECT_NE(sheet.findings[0].text.find("does not clip"), std::string::npos);
}

TEST(Clipping, HeadroomCountsFromTheAlignmentLevel) {
  ClippingResult result{.options = {.alignment_dbfs = -18}, .sample_rate_hz = kRate, .frequency_hz = 997};
  result.channels.push_back(clipped(ramp(), kHard));
  const Sheet sheet = clipping_sheet(result, {});
  EXPECT_NEAR(*find_reading(sheet, "headroom_db", 0)->value, *result.channels[0].point->in_dbfs + 18, 1e-9);
  EXPECT_NE(sheet.findings[0].text.find("it is hard"), std::string::npos) << sheet.findings[0].text;
}

TEST(Clipping, AKnobTurnedByHandTellsTheMoment) {
  // The gain in front of the device rises in jumps and slides; at 3.0 s it passes what the device can take.
  Signal y(static_cast<std::size_t>(6 * kRate));
  for (std::size_t n = 0; n < y.size(); ++n) {
    const double t = static_cast<double>(n) / kRate;
    const double gain = t < 1 ? 0.05 : t < 2 ? 0.05 + 0.1 * (t - 1) : t < 3 ? 0.2 : 1.2;
    y[n] = std::clamp(gain * exact_sine(997, kRate, static_cast<std::int64_t>(n)), -0.5, 0.5);
  }
  const Audio audio = audio_of(y, kRate);
  MemorySource source(audio);
  const auto result = measure_clipping_by_hand(taken(source), 997, {});
  ASSERT_TRUE(result.channels[0].point);
  EXPECT_NEAR(result.channels[0].point->time_s, 3.0, 0.06);
  EXPECT_FALSE(result.channels[0].point->in_dbfs);
}

TEST(Clipping, BadInputIsAnswered) {
  Stimulus stimulus(ramp());
  const Audio silent(kRate, 1, static_cast<std::int64_t>(8 * kRate));
  MemorySource source(silent);
  EXPECT_FALSE(measure_clipping(played(source, stimulus, Take{}), 0).channels[0].measured);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument,
                 [&] { (void)measure_clipping(played(source, stimulus, Take{}), 0, {.thd_percent = 0}); })
          .find("THD"),
      std::string::npos);
  const Audio shorter(kRate, 1, 1000);
  MemorySource cut(shorter);
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { (void)measure_clipping(played(cut, stimulus, Take{}), 0); })
          .find("does not hold all"),
      std::string::npos);
  Stimulus falling(ramp(0, -40));
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)measure_clipping(played(source, falling, Take{}), 0); })
          .find("does not rise"),
      std::string::npos);
  Stimulus other(recipe_of(Tone{.seconds = 8}));
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)measure_clipping(played(source, other, Take{}), 0); })
          .find("no staircase"),
      std::string::npos);
  Audio broken(kRate, 1, static_cast<std::int64_t>(8 * kRate));
  broken.channel(0)[5000] = NAN;
  MemorySource wrong(broken);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)measure_clipping_by_hand(taken(wrong), 997.0); })
                .find("frame 5000"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::clipping_test
