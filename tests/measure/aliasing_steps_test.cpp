// SPDX-License-Identifier: MIT
#include <complex>

#include "intake/damage.hpp"
#include "measure/judged.hpp"
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::aliasing_steps_test {
namespace {

using namespace testing;

constexpr double kStepDb = 0.001;
constexpr double kFloorDbc = -170;

Recipe tones(double rate = 48000) {
  Recipe recipe{.sample_rate_hz = rate};
  recipe.parts.push_back(
      {.name = "steps",
       .kind = Staircase{.frequencies_hz = {997, 4999, 9973, 15013}, .levels_dbfs = {-1}, .step_s = 1.2}});
  return recipe;
}

template <typename Device>
AliasingResult through(const Device& device, SampleFormat format = SampleFormat::float64, double noise = 0) {
  Stimulus stimulus(tones());
  Audio audio(48000, 1, stimulus.frames());
  stimulus.render(0, 0, audio.channel(0));
  const Quantiser quantiser(format, is_integer(format), 7);
  for (std::int64_t n = 0; n < audio.frames(); ++n) {
    double& x = audio.channel(0)[static_cast<std::size_t>(n)];
    x = quantiser.value(device(x) + noise * std::sin(1e6 * std::sin(static_cast<double>(n))), 0, n);
  }
  const auto takes = locate(audio, stimulus);
  MemorySource source(audio);
  return measure_aliasing_steps(played(source, stimulus, takes.at(0), format), 0, {.highest_order = 100});
}

TEST(AliasingSteps, EveryOrderOfTanhAtEveryToneIsRead) {
  auto device = [](double x) { return std::tanh(2 * x) / 2; };
  const auto result = through(device);
  std::vector<double> truth;
  for (int k = 0; k <= 60; ++k) {
    std::complex<double> sum = 0;
    for (int n = 0; n < 4096; ++n)
      sum += device(ratio_from_db(-1) * std::sin(2 * M_PI * n / 4096)) *
             std::polar(1.0, -2 * M_PI * k * n / 4096);
    truth.push_back(std::abs(sum));
  }
  ASSERT_EQ(result.channels[0].frames.size(), 4U);
  int compared = 0;
  for (const AliasingFrame& frame : result.channels[0].frames)
    for (int k = 3; k <= 21; k += 2) {
      const auto at = static_cast<std::size_t>(k);
      if (!frame.valid[at] || frame.bound[at]) continue;
      const double expected = db_from_ratio(truth[at] / truth[1]);
      if (expected < -140) continue;
      EXPECT_NEAR(db_from_ratio(frame.amplitude[at] / frame.fundamental), expected, kStepDb)
          << frame.tone_hz << " order " << k;
      ++compared;
    }
  EXPECT_GT(compared, 30);
  const FoldedOrder& worst = result.channels[0].folded.at(0);
  EXPECT_EQ(worst.order, 3);
  EXPECT_NEAR(worst.at_hz, 9973, 0.01) << "the first tone whose third order folds";
  EXPECT_NEAR(worst.hz, 48000 - 3 * 9973, 0.01);
  const Sheet sheet = aliasing_sheet(result, {});
  EXPECT_NEAR(*find_reading(sheet, "worst_alias_dbc", 0)->value, db_from_ratio(truth[3] / truth[1]), kStepDb);
  EXPECT_NE(sheet.findings[0].text.find("while the tone is at"), std::string::npos);
}

TEST(AliasingSteps, ACleanToneIsABoundAndTheFloorLiesFarBelow) {
  const auto result = through([](double x) { return x; }, SampleFormat::pcm24);
  EXPECT_LT(db_from_ratio(result.floor_ratio), kFloorDbc);
  EXPECT_TRUE(find_reading(aliasing_sheet(result, {}), "worst_alias_dbc", 0)->bound);
  const auto noisy = through([](double x) { return x; }, SampleFormat::float64, 1e-4);
  const Sheet sheet = aliasing_sheet(noisy, {});
  EXPECT_TRUE(find_reading(sheet, "worst_alias_dbc", 0)->bound);
  EXPECT_EQ(find_reading(sheet, "worst_alias_order", 0), nullptr);
  EXPECT_NE(sheet.findings[0].text.find("stands out of the noise"), std::string::npos)
      << sheet.findings[0].text;
}

TEST(AliasingSteps, AnotherKindOfPartIsRefusedAndVerdictsCompareEachWithTheOneBefore) {
  Recipe recipe = tones();
  recipe.parts[0].kind = Tone{};
  Stimulus stimulus(recipe);
  const Audio audio(48000, 1, 1000);
  MemorySource source(audio);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] { (void)measure_aliasing_steps(played(source, stimulus, Take{}), 0, {}); })
                .find("staircase"),
            std::string::npos);
}

TEST(AliasingSteps, TheSettingThatIsEnoughIsNamedAndBoundsCannotTell) {
  auto sheet = [](const char* file, double value, bool bound, double sure = 0.2) {
    Sheet s{"aliasing", {.file = file}, {}, {}, {}, {}, {}};
    Reading r{"worst_alias_dbc",
              0,
              value,
              "dBc",
              std::nullopt,
              bound,
              {{"order", std::int64_t{9}}, {"at_hz", 20600.0}}};
    if (!bound) r.uncertainty = sure;
    s.readings.push_back(r);
    return s;
  };
  const std::vector<Sheet> ladder = {
      sheet("in/tern-1-times.wav", -18.8, false), sheet("in/tern-4-times.wav", -56.4, false),
      sheet("in/tern-8-times.wav", -126.3, false), sheet("in/tern-16-times.wav", -140, true)};
  EXPECT_EQ(
      aliasing_answer(ladder, -80),
      "tern-8-times is enough for -80 dBc (-126.3 dBc, order 9 at 20.6 kHz); tern-4-times is not (-56.4 dBc, "
      "order 9 at 20.6 kHz)");
  EXPECT_EQ(aliasing_answer(ladder, -10),
            "tern-1-times is enough for -10 dBc (-18.8 dBc, order 9 at 20.6 kHz)");
  EXPECT_EQ(aliasing_answer(ladder, -150),
            "none is enough for -150 dBc; the best is tern-16-times (no product above -140.0 dBc)");
  // Within what it is uncertain by, nothing is promised.
  EXPECT_HAS(aliasing_answer({sheet("a", -80.1, false)}, -80), "it cannot be told");
  EXPECT_HAS(aliasing_answer({sheet("a", -79, true)}, -80), "it cannot be told");
  EXPECT_HAS(aliasing_answer({sheet("a", -79, false)}, -80), "a is not");
  // One that keeps it before one that does not is not enough.
  EXPECT_HAS(aliasing_answer({sheet("x 1.wav", -90, false), sheet("x 2.wav", -70, false)}, -80),
             "but not what follows");
  EXPECT_EQ(aliasing_answer({}, -80), "");
  // The word that differs tells them apart.
  EXPECT_HAS(aliasing_answer({sheet("out/t over=4 drive=2.wav", -50, false),
                              sheet("out/t over=16 drive=2.wav", -99, false)},
                             -80),
             "over=16 is enough for -80 dBc (-99.0 dBc, order 9 at 20.6 kHz); over=4 is not");
}

// A shell sorts 16 before 2.
TEST(AliasingSteps, CapturesAreOrderedByTheOneNumberThatDiffers) {
  const auto order = [](const std::vector<std::string>& files) {
    for (const MeasurementDescriptor& one : measurements())
      if (one.name == "aliasing") return one.make()->order(files);
    return std::vector<std::size_t>{};
  };
  using Places = std::vector<std::size_t>;
  EXPECT_EQ(order({"t-1-x.wav", "t-16-x.wav", "t-2-x.wav", "t-8-x.wav"}), (Places{0, 2, 3, 1}));
  EXPECT_EQ(order({"drive=10.5.wav", "drive=10.25.wav", "drive=9.wav"}), (Places{2, 1, 0}));
  EXPECT_EQ(order({"g -3.wav", "g -12.wav", "g 0.wav"}), (Places{1, 0, 2}));
  EXPECT_EQ(order({"b.wav", "a.wav"}), (Places{0, 1}));
  EXPECT_EQ(order({"a2-x1.wav", "a1-x2.wav"}), (Places{0, 1})) << "two numbers differ";
  EXPECT_EQ(order({"a1.wav", "a1.wav"}), (Places{0, 1}));
  EXPECT_EQ(order({"a.wav"}), (Places{0}));
  EXPECT_EQ(order({}), Places{});
}

// In the noise of its short frames a sweep hides what longer tones of the same capture show.
TEST(AliasingSteps, TellWhatTheSweepOfTheSameCaptureCannot) {
  Recipe recipe = tones();
  recipe.parts.insert(
      recipe.parts.begin(),
      {.name = "sweep", .kind = Sweep{.seconds = 4, .level_dbfs = -1}, .silence_after_s = 0.3});
  Stimulus stimulus(recipe);
  for (const bool bent : {true, false}) {
    const double cube = bent ? 1.2e-3 : 0;  // order 3 at -70.5 dBc
    Audio audio(48000, 1, stimulus.frames());
    stimulus.render(0, 0, audio.channel(0));
    for (std::int64_t n = 0; n < audio.frames(); ++n) {
      double& x = audio.channel(0)[static_cast<std::size_t>(n)];
      x += -cube * x * x * x + 2e-3 * gaussian(5, static_cast<std::uint64_t>(n));
    }
    MemorySource source(audio);
    const JudgedCapture capture = played(source, stimulus, locate(audio, stimulus).at(0));
    const auto aliasing = find_measurement(measurements(), "aliasing")->make();
    const Sheet sheet = measured(*aliasing, {}, capture).at(0);
    const Reading* worst = find_reading(sheet, "worst_alias_dbc", 0);
    ASSERT_NE(worst, nullptr);
    const bool said = sheet.findings.front().text.find("the sweep cannot tell (no product above") == 0;
    EXPECT_TRUE(said) << sheet.findings.front().text;
    EXPECT_EQ(worst->bound, !bent);
    EXPECT_NE(find_condition(*worst, "tones_to_hz"), nullptr);
    const double amplitude = ratio_from_db(-1), third = cube * amplitude * amplitude / 4;
    if (bent)
      EXPECT_NEAR(*worst->value, db_from_ratio(third / (1 - 3 * third)), worst->uncertainty.value_or(0));
    else
      EXPECT_LT(*worst->value, -75);
    // The sweep alone, when it is named.
    const Sheet alone = measured(*find_measurement(measurements(), "aliasing")->make(),
                                 {.selection = {.part = "sweep"}}, capture)
                            .at(0);
    EXPECT_TRUE(find_reading(alone, "worst_alias_dbc", 0)->bound);
    EXPECT_NE(find_condition(*find_reading(alone, "worst_alias_dbc", 0), "sweep_to_hz"), nullptr);
  }
}

}  // namespace
}  // namespace wavicon::aliasing_steps_test
