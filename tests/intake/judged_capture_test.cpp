// SPDX-License-Identifier: MIT
// The gate: what is let through, what is refused and by which code, and what is known of what was played.

#include "wavicon/intake/judged_capture.hpp"

#include "intake/damage.hpp"
#include "wavicon/intake/stream_gate.hpp"

namespace wavicon::judged_capture_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;

struct Case {
  std::string what;
  FindingCode code;
  std::function<std::vector<double>(std::vector<double>)> damage;
  SampleFormat format = SampleFormat::float32;
};

std::vector<Case> cases() {
  const auto second = [](double s) { return static_cast<std::ptrdiff_t>(s * kRate); };
  return {{"dropout", FindingCode::dropout,
           [=](std::vector<double> x) {
             std::fill(x.begin() + second(0.55), x.begin() + second(0.56), 0.0);
             return x;
           }},
          {"lost", FindingCode::lost_frames,
           [=](std::vector<double> x) {
             x.erase(x.begin() + second(1.5), x.begin() + second(1.5) + 300);
             return x;
           }},
          {"repeated", FindingCode::repeated_frames,
           [=](std::vector<double> x) {
             const std::vector<double> more(x.begin() + second(1.5), x.begin() + second(1.5) + 300);
             x.insert(x.begin() + second(1.5), more.begin(), more.end());
             return x;
           }},
          {"start", FindingCode::cut_start,
           [=](std::vector<double> x) { return std::vector(x.begin() + second(0.3), x.end()); }},
          {"end", FindingCode::cut_end,
           [=](std::vector<double> x) { return std::vector(x.begin(), x.end() - second(0.3)); }},
          {"clipped", FindingCode::clipped,
           [](std::vector<double> x) {
             for (double& v : x) v = std::clamp(30 * v, -1.0, 1 - 0x1p-15);
             return x;
           },
           SampleFormat::pcm16},
          {"NaN", FindingCode::broken_sample,
           [=](std::vector<double> x) {
             x[static_cast<std::size_t>(second(1))] = NAN;
             return x;
           }},
          {"another", FindingCode::wrong_stimulus,
           [](const std::vector<double>& x) {
             std::vector<double> y(x.size());
             for (std::size_t n = 0; n < y.size(); ++n) y[n] = 0.01 * gaussian(9, n);
             return y;
           }},
          {"silent", FindingCode::silent,
           [](const std::vector<double>& x) { return std::vector(x.size(), 0.0); }}};
}

std::shared_ptr<Stimulus> booth() { return std::make_shared<Stimulus>(booth_recipe(kRate)); }

TEST(Gate, RefusesEachFaultByItsCode) {
  const auto stimulus = booth();
  const auto x = rendered(*stimulus);
  EXPECT_NO_THROW((void)judge(audio_of(x, kRate), SampleFormat::float32, {stimulus, std::nullopt}));
  for (const Case& c : cases()) {
    const Audio audio = audio_of(c.damage(x), kRate);
    try {
      (void)judge(audio, c.format, {stimulus, std::nullopt});
      ADD_FAILURE() << c.what << " was let through";
    } catch (const UnfitCapture& unfit) {
      EXPECT_EQ(unfit.fault(), c.code) << c.what << ": " << unfit.what();
      EXPECT_EQ(static_cast<int>(unfit.code()), static_cast<int>(ErrorCode::bad_input));
    }
  }
}

TEST(Gate, AWrongRateIsAFaultToo) {
  const auto stimulus = booth();
  try {
    (void)judge(audio_of(rendered(*stimulus), 44100), SampleFormat::float32, {stimulus, std::nullopt});
    ADD_FAILURE() << "let through";
  } catch (const UnfitCapture& unfit) {
    EXPECT_EQ(unfit.fault(), FindingCode::wrong_rate);
  }
}

TEST(Gate, ToleratedFaultsBecomeWarningsAndDespiteFaultsIsAConditions) {
  const auto stimulus = booth();
  const auto x = rendered(*stimulus);
  for (const Case& c : cases()) {
    if (c.code == FindingCode::broken_sample) continue;
    const Audio audio = audio_of(c.damage(x), kRate);
    const auto tolerated = judge(audio, c.format, {stimulus, std::nullopt}, {.tolerated = {c.code}});
    const auto despite = judge(audio, c.format, {stimulus, std::nullopt}, {.despite_faults = true});
    const auto found = [&](const JudgedCapture& judged) {
      for (const Finding& f : judged.findings())
        if (f.code == c.code) return f.severity;
      ADD_FAILURE() << c.what << " is not told";
      return Severity::note;
    };
    EXPECT_EQ(found(tolerated), Severity::warning) << c.what;
    EXPECT_TRUE(tolerated.conditions().empty());
    EXPECT_EQ(found(despite), Severity::fault) << c.what;
    ASSERT_EQ(despite.conditions().size(), 1U);
    EXPECT_EQ(despite.conditions()[0].first, "despite_faults");
  }
}

TEST(Gate, NothingIsReadFromBrokenSamplesAndNothingFromNoFrames) {
  Audio audio = audio_of(std::vector<double>(4800, 0.1), kRate);
  audio.channel(0)[4711] = INFINITY;
  const std::string text = message_of(ErrorCode::bad_input, [&] {
    (void)judge(audio, SampleFormat::float64, {},
                {.tolerated = {FindingCode::broken_sample}, .despite_faults = true});
  });
  EXPECT_HAS(text, "NaN or infinity (channel 1, frame 4711");
  EXPECT_HAS(message_of(ErrorCode::bad_input, [] { (void)judge(Audio(kRate, 1, 0)); }), "0 frames");
}

TEST(Gate, HeldFaultsKeepTheSamplesShutUntilAMeasurementAdmitsThem) {
  const auto stimulus = booth();
  const auto dropped = cases()[0].damage(rendered(*stimulus));
  const auto held =
      judge(audio_of(dropped, kRate), SampleFormat::float32, {stimulus, std::nullopt}, {.hold_faults = true});
  ASSERT_EQ(held.held_faults().size(), 1U);
  EXPECT_THROW((void)held.source(), UnfitCapture);
  EXPECT_THROW((void)held.admitted({}), UnfitCapture);
  const auto admitted = held.admitted({.tolerated = {FindingCode::dropout}});
  EXPECT_EQ(admitted.source().frames(), static_cast<std::int64_t>(dropped.size()));
  EXPECT_TRUE(std::any_of(admitted.findings().begin(), admitted.findings().end(),
                          [](const Finding& f) { return f.code == FindingCode::dropout; }));
  EXPECT_TRUE(admitted.conditions().empty());
  // Let through in spite of it: that stands in the conditions, and stays so.
  const auto despite = held.admitted({.despite_faults = true});
  ASSERT_EQ(despite.conditions().size(), 1U);
  EXPECT_EQ(despite.conditions().front().first, "despite_faults");
  const auto again = despite.admitted({.despite_faults = true});
  EXPECT_EQ(again.conditions().size(), 1U);
  EXPECT_EQ(despite.admitted({}).source().frames(), static_cast<std::int64_t>(dropped.size()));
}

// A held fault of any capture keeps the row shut, not only one of the first.
TEST(Row, HoldsTheFaultsOfAll) {
  const auto stimulus = booth();
  const auto x = rendered(*stimulus);
  const GatePolicy hold{.hold_faults = true};
  const auto good = judge(audio_of(x, kRate), SampleFormat::float32, {stimulus, std::nullopt}, hold),
             bad = judge(audio_of(cases()[0].damage(x), kRate), SampleFormat::float32,
                         {stimulus, std::nullopt}, hold);
  EXPECT_EQ(judge_row({good, good}).source().frames(), 2 * static_cast<std::int64_t>(x.size()));
  EXPECT_THROW((void)judge_row({good, bad}).source(), UnfitCapture);
  EXPECT_THROW((void)judge_row({bad, good}).source(), UnfitCapture);
}

TEST(Gate, AFileThatIsCutOffIsUnfit) {
  const Audio audio = audio_of(std::vector<double>(4800, 0.1), kRate);
  auto source = std::make_shared<MemorySource>(audio);
  const CaptureInfo info{
      .sample_rate_hz = kRate, .channels = 1, .frames = 4800, .cut_off = "half of it is missing"};
  EXPECT_HAS(message_of(ErrorCode::bad_input, [&] { (void)judge(source, info, SampleFormat::pcm24); }),
             "half of it is missing");
  EXPECT_EQ(judge(source, info, SampleFormat::pcm24, {}, {.despite_faults = true}).findings().size(), 1U);
}

TEST(Gate, FindsWhatWasPlayedAndWhereOrTakesItFromWhoKnows) {
  const auto stimulus = booth();
  const auto x = padded(rendered(*stimulus), 1000, 0);
  const auto found = judge(audio_of(x, kRate), SampleFormat::float64, {stimulus, std::nullopt});
  ASSERT_TRUE(found.played());
  EXPECT_NEAR(found.take().first_frame, 1000, 0.01);
  EXPECT_NEAR(found.seconds_of(480), 1480 / kRate, 1e-6);
  Take take;
  take.first_frame = 500;
  const auto given = judge(audio_of(x, kRate), SampleFormat::float64, {stimulus, take});
  EXPECT_EQ(given.take().first_frame, 500);
  const auto unknown = judge(audio_of(x, kRate));
  EXPECT_FALSE(unknown.played());
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)unknown.stimulus(); }), "nothing is known");
  const auto itself = judge_stimulus(stimulus);
  EXPECT_TRUE(itself.played());
  EXPECT_EQ(itself.source().frames(), stimulus->frames());
}

int tones_first(const PartKind& kind) {
  return std::holds_alternative<Tone>(kind) ? 1 : std::holds_alternative<Sweep>(kind) ? 2 : -1;
}

TEST(Parts, OneRuleChoosesThem) {
  const auto stimulus = booth();
  const auto capture =
      judge(audio_of(rendered(*stimulus), kRate), SampleFormat::float64, {stimulus, std::nullopt});
  EXPECT_EQ(choose_part(*stimulus, "", tones_first), 0U);
  EXPECT_EQ(choose_part(*stimulus, "sweep", tones_first), 1U);
  EXPECT_FALSE(choose_part(*stimulus, "", [](const PartKind&) { return 0; }));
  EXPECT_EQ(choose_part(*stimulus, "noise", [](const PartKind&) { return 0; }), 2U);
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)choose_part(*stimulus, "noise", tones_first); }),
             "there are: tone, sweep");
  const PlacedPart& tone = stimulus->parts()[0];
  const auto stretch = choose_stretch(capture, {}, tones_first);
  EXPECT_NEAR(stretch.from_s, static_cast<double>(tone.first_frame) / kRate, 1e-6);
  EXPECT_NEAR(*stretch.to_s, static_cast<double>(tone.first_frame + tone.frames) / kRate, 1e-6);
  EXPECT_EQ(stretch.what, "tone");
  const auto all = choose_stretch(capture, {}, [](const PartKind&) { return 0; });
  EXPECT_EQ(all.what, "all parts");
  EXPECT_FALSE(all.part);
  const auto seconds = choose_stretch(capture, {.from_s = 0.2, .to_s = 0.4, .part = ""}, tones_first);
  EXPECT_EQ(seconds.from_s, 0.2);
  EXPECT_FALSE(seconds.part);
  EXPECT_HAS(
      message_of(
          ErrorCode::bad_argument,
          [&] { (void)choose_stretch(capture, {.from_s = 0.2, .to_s = {}, .part = "tone"}, tones_first); }),
      "at once");
  EXPECT_HAS(message_of(ErrorCode::bad_argument,
                        [&] {
                          (void)choose_stretch(judge(audio_of(rendered(*stimulus), kRate)),
                                               {.from_s = 0, .to_s = {}, .part = "tone"}, tones_first);
                        }),
             "nothing tells which stimulus");
}

TEST(Row, PutsCapturesOneAfterTheOther) {
  const auto a = judge(audio_of(std::vector<double>(100, 0.1), kRate)),
             b = judge(audio_of(std::vector<double>(50, 0.2), kRate));
  const auto row = judge_row({a, b});
  ASSERT_EQ(row.source().frames(), 150);
  EXPECT_EQ(row.info().frames, 150);
  const auto x = read_channel(row.source(), 0, 98, 4);
  EXPECT_EQ(x, (std::vector<double>{0.1, 0.1, 0.2, 0.2}));
  const auto other = judge(audio_of(std::vector<double>(50, 0.2), 44100));
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)judge_row({a, other}); }), "one rate");
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [] { (void)judge_row({}); }), "no capture");
}

TEST(StreamGate, JudgesWhatHasPassed) {
  const auto stimulus = booth();
  for (const Case& c : cases()) {
    if (c.code != FindingCode::dropout && c.code != FindingCode::clipped &&
        c.code != FindingCode::broken_sample && c.code != FindingCode::silent)
      continue;  // without a stimulus no other fault can be told
    const auto x = c.damage(rendered(*stimulus));
    // Held or not: after a stream there is nobody who could still decide.
    StreamGate gate(1, kRate, c.format, {.hold_faults = c.code == FindingCode::dropout});
    for (std::size_t n = 0; n < x.size(); n += 1000)
      gate.push(std::span(x).subspan(n, std::min<std::size_t>(1000, x.size() - n)));
    try {
      (void)gate.finish();
      ADD_FAILURE() << c.what;
    } catch (const UnfitCapture& unfit) {
      EXPECT_EQ(unfit.fault(), c.code) << c.what;
    }
  }
  StreamGate good(1, kRate);
  const auto x = rendered(*stimulus);
  good.push(x);
  EXPECT_TRUE(good.finish().empty());
}

TEST(Preconditions, AreCheckedNotSuffered) {
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [] { (void)Audio(kRate, 1, 10).channel(7); }),
             "no channel 8");
  EXPECT_HAS(message_of(ErrorCode::bad_argument,
                        [] { (void)std::as_const(*std::make_unique<Audio>(kRate, 1, 10)).channel(-1); }),
             "no channel 0");
  for (const int channels : {0, -1}) {
    EXPECT_HAS(
        message_of(ErrorCode::bad_argument, [&] { HealthMeter(channels, kRate, SampleFormat::pcm24); }),
        "at least 1");
    EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { StreamGate(channels, kRate); }), "at least 1");
  }
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [] { HealthMeter(1, 0, SampleFormat::pcm24); }),
             "not above 0");
  HealthMeter meter(2, kRate, SampleFormat::pcm24);
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { meter.push(std::vector<double>(3)); }),
             "whole number of frames");
  (void)meter.finish();
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { meter.push(std::vector<double>(2)); }),
             "after finish()");
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)meter.finish(); }), "before");
  const Audio audio(kRate, 1, 10);
  MemorySource source(audio);
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)read_channel(source, 1, 0, 5); }),
             "no channel 2");
}

}  // namespace
}  // namespace wavicon::judged_capture_test
