// SPDX-License-Identifier: MIT
#include "wavicon/measure/latency/latency.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon::latency_test {
namespace {

using namespace testing;

constexpr double kClean = 0.01;  // samples
constexpr double kNoisy = 0.05;  // at 0 dB signal to noise

LatencyResult latency_of(const Signal& a, const Signal& b, double rate, Stimulus* stimulus = nullptr,
                         const LatencyOptions& options = {}) {
  const Audio x = audio_of(a, rate), y = audio_of(b, rate);
  MemorySource from(x), against(y);
  return stimulus == nullptr
             ? measure_latency(taken(from), taken(against), options)
             : measure_latency(holding(from, *stimulus), holding(against, *stimulus), options);
}

TEST(Latency, MarksGiveAFractionOfASampleWhateverHappensToThem) {
  for (const double rate : {44100.0, 48000.0, 192000.0}) {
    Stimulus stimulus(booth_recipe(rate));
    const Signal x = rendered(stimulus);
    for (const double late : {0.0, 261.4, 4321.37, -20.25})
      for (const int kind : {0, 1, 2}) {
        Signal y = moved(padded(x, 0, 6000), late);
        if (kind == 1) y = shaped(scaled(y, -0.01), [](double v, std::size_t) { return v; });
        if (kind == 2) y = shaped(scaled(y, 6), [](double v, std::size_t) { return std::tanh(v); });
        const auto result = latency_of(x, y, rate, &stimulus);
        EXPECT_TRUE(result.by_marks);
        EXPECT_NEAR(result.latency_samples, late, kClean) << rate << " kind " << kind;
        EXPECT_EQ(result.polarity, kind == 1 ? -1 : 1);
        EXPECT_EQ(result.drift_ppm, 0);
      }
  }
}

TEST(Latency, NoiseAsLoudAsTheMarksMovesItALittle) {
  Stimulus stimulus(booth_recipe(48000));
  const Signal x = rendered(stimulus);
  // Marks are sines of -20 dBFS peak.
  for (std::uint64_t seed = 1; seed <= 4; ++seed) {
    const Signal y = moved(padded(x, 0, 6000), 261.4);
    const auto result = latency_of(x, added(y, noise(y.size(), -23, seed)), 48000, &stimulus);
    EXPECT_NEAR(result.latency_samples, 261.4, kNoisy) << seed;
  }
}

TEST(Latency, AnyProgrammeWillDo) {
  for (const char* content : {"voice", "chamber"}) {
    const Signal& x = programme(content, 48000, 5);
    for (const double late : {51.37, 2000.0, -300.6}) {
      const auto result = latency_of(x, added(scaled(moved(x, late), -0.3), noise(x.size(), -90, 2)), 48000);
      EXPECT_FALSE(result.by_marks);
      EXPECT_NEAR(result.latency_samples, late, kClean) << content;
      EXPECT_EQ(result.polarity, -1);
      EXPECT_FALSE(result.earlier_samples);
      ASSERT_FALSE(result.shown_a.empty());
      // Hiss up to half the rate is lost between the samples.
      for (std::size_t n = 0; n < result.shown_a.size() && content == std::string("chamber"); ++n)
        EXPECT_NEAR(result.shown_a[n], result.shown_moved[n], 2e-3) << "both on one grid, B at A's level";
    }
  }
}

TEST(Latency, AnEchoThatIsStrongerThanTheDirectSoundIsSaid) {
  const Signal& x = programme("voice", 48000, 5);
  const Signal y = added(scaled(moved(x, 100), 0.5), moved(x, 700));
  const auto result = latency_of(x, y, 48000);
  EXPECT_NEAR(result.latency_samples, 700, 0.1);
  ASSERT_TRUE(result.earlier_samples);
  EXPECT_NEAR(*result.earlier_samples, 600, 1);
  EXPECT_NEAR(result.earlier_db, -6, 2);
  const Sheet sheet = latency_sheet(result, {}, {});
  EXPECT_NE(sheet.findings.back().text.find("an echo is stronger"), std::string::npos);
}

TEST(Latency, TheOffsetHasTheSignThatBringsItToNothing) {
  Stimulus stimulus(booth_recipe(48000));
  const Signal x = rendered(stimulus);
  for (const double reported : {220.0, 300.0, 261.0}) {
    const Signal y = moved(padded(x, 0, 2000), 261.4);
    const auto result = latency_of(x, y, 48000, &stimulus, {.reported_samples = reported});
    const Sheet sheet = latency_sheet(result, {}, {});
    const double offset = *find_reading(sheet, "offset_samples", std::nullopt)->value;
    EXPECT_NEAR(offset, 261.4 - reported, kClean);
    const std::string& text = sheet.findings[1].text;
    EXPECT_NE(text.find(reported == 261 ? "nothing to enter"
                        : offset > 0    ? "earlier by another 41 samples"
                                        : "later by another 39 samples"),
              std::string::npos)
        << text;
    // Shifted earlier by what is reported and by the offset, nothing is left.
    const auto again = latency_of(x, moved(y, -(reported + offset)), 48000, &stimulus);
    EXPECT_NEAR(again.latency_samples, 0, kClean);
  }
}

TEST(Latency, ARowOfThemIsJudged) {
  EXPECT_EQ(latency_verdict({261.4, 261.41, 261.39}, {64, 128, 256}), "constant: 261.40 samples");
  EXPECT_EQ(latency_verdict({179.4, 307.4, 563.4}, {64, 128, 256}),
            "follows the block size: 2.00 × block + 51.40 samples");
  EXPECT_EQ(latency_verdict({100, 105.5, 101}, {64, 128, 256}), "varies by 5.50 samples");
  EXPECT_EQ(latency_verdict({100, 228}, {64, 128}), "varies by 128.00 samples")
      << "two points always lie on a line";
  EXPECT_EQ(latency_verdict({100}, {64}), "");
}

TEST(Latency, BadInputIsAnswered) {
  const Signal& x = programme("voice", 48000, 4);
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { (void)latency_of(x, programme("chamber", 48000, 4, 5), 48000); })
          .find("too little in common"),
      std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)latency_of(x, Signal(48000, 0.0), 48000); })
                .find("too little"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)latency_of(x, {}, 48000); }).find("0 frames"),
            std::string::npos);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)latency_of(x, x, 48000, nullptr, {.b_channel = 1}); })
          .find("no channel 2"),
      std::string::npos);
  const Audio low = audio_of(x, 44100), high = audio_of(x, 48000);
  MemorySource a(low), b(high);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)measure_latency(taken(a), taken(b)); })
                .find("needs one rate"),
            std::string::npos);
  // A tone fits at many places: said, with them.
  Signal tone(96000);
  for (std::size_t n = 0; n < tone.size(); ++n)
    tone[n] = 0.3 * exact_sine(440, 48000, static_cast<std::int64_t>(n));
  EXPECT_NE(
      message_of(ErrorCode::bad_input,
                 [&] { (void)latency_of(tone, added(moved(tone, 30), noise(tone.size(), -80, 2)), 48000); })
          .find("every 109 samples, so that delays of 30, 139"),
      std::string::npos);
  const Sheet sheet = latency_sheet(latency_of(x, x, 48000), {}, {});
  EXPECT_EQ(sheet.findings.size(), 1U);
}

}  // namespace
}  // namespace wavicon::latency_test
