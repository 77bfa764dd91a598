// SPDX-License-Identifier: MIT
#include "wavicon/intake/recognise.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

#include "intake/damage.hpp"
#include "support.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/intake/health.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::recognise_test {
namespace {

using namespace testing;

Audio sweep_at(const Sweep& sweep, double rate, double before_s, SampleFormat format = SampleFormat::pcm24) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false, .silence_before_s = before_s, .silence_after_s = 0.2};
  recipe.parts.push_back({.name = "sweep", .kind = sweep});
  Stimulus stimulus(recipe);
  Audio audio(rate, 1, stimulus.frames());
  stimulus.render(0, 0, audio.channel(0));
  const Quantiser quantiser(format, is_integer(format), 3);
  for (std::int64_t n = 0; n < audio.frames(); ++n) {
    double& x = audio.channel(0)[static_cast<std::size_t>(n)];
    x = quantiser.value(x, 0, n);
  }
  return audio;
}

TEST(RecogniseSweep, TellsLawEndsAndLengthOfAnySweep) {
  for (const double rate : {44100.0, 48000.0, 96000.0})
    for (const char* law : {"log", "linear"})
      for (const bool falling : {false, true}) {
        Sweep sweep{.from_hz = 27.5, .to_hz = 0.44 * rate, .seconds = 6.5, .law = law, .level_dbfs = -3};
        if (falling) std::swap(sweep.from_hz, sweep.to_hz);
        const Audio audio = sweep_at(sweep, rate, 0.37);
        MemorySource source(audio);
        const Recognition recognition = recognise(source, 0);
        const RecognisedPart* found = only_sweep(recognition);
        ASSERT_NE(found, nullptr) << rate << law << falling;
        const auto& told = std::get<Sweep>(*found->written);
        EXPECT_EQ(told.law, law);
        EXPECT_LT(*found->stray_db, -60);
        // The same phase all along, up to a constant: that of the first frame that sounds.
        const double late_s = static_cast<double>(found->first_frame) / rate - 0.37;
        double first = 0;
        for (double t = 0.5; t < 6; t += 0.25) {
          const double difference = sweep_cycles(told, t - late_s) - sweep_cycles(sweep, t);
          if (t == 0.5) first = difference;
          EXPECT_NEAR(difference, first, 2e-4) << rate << law << falling << " at " << t << " s";
        }
      }
}

TEST(RecogniseSweep, WhatIsNoSweepIsNotTakenForOne) {
  Recipe recipe{.sample_rate_hz = 48000, .marks = false};
  for (const PartKind& kind : {PartKind(Tone{.seconds = 3}), PartKind(Noise{.seconds = 3}),
                               PartKind(Programme{.seconds = 4}), PartKind(Silence{.seconds = 1})}) {
    recipe.parts = {{.name = "part", .kind = kind}};
    Stimulus stimulus(recipe);
    Audio audio(48000, 1, stimulus.frames());
    stimulus.render(0, 0, audio.channel(0));
    MemorySource source(audio);
    if (std::holds_alternative<Silence>(kind))
      EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)recognise(source, 0); }).find("silent"),
                std::string::npos);
    else
      EXPECT_EQ(only_sweep(recognise(source)), nullptr) << kind_name(kind);
  }
  const Audio none(48000, 1, 0);
  MemorySource empty(none);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)recognise(empty); }).find("0 frames"),
            std::string::npos);
  const Audio one(48000, 1, 1);
  MemorySource channel(one);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)recognise(channel, 1); }).find("no channel 2"),
            std::string::npos);
}

// A signal as an engineer would cut it in a session, from sines alone.
class Cut {
 public:
  explicit Cut(double rate) : rate_(rate) {}
  Cut& silence(double seconds) {
    samples_.insert(samples_.end(), static_cast<std::size_t>(std::llround(seconds * rate_)), 0.0);
    return *this;
  }
  // Linear edges, which our own generator does not have. @return the frame of its first sample.
  Cut& tone(double hz, double dbfs, double seconds, double edge_s = 0, double cycles = 0.1) {
    const auto count = std::llround(seconds * rate_);
    starts.push_back(static_cast<std::int64_t>(samples_.size()));
    for (long long n = 0; n < count; ++n) {
      const double t = static_cast<double>(n) / rate_, left = static_cast<double>(count - 1 - n) / rate_;
      const double edge = edge_s > 0 ? std::min({1.0, t / edge_s, left / edge_s}) : 1;
      samples_.push_back(edge * std::pow(10, dbfs / 20) * std::sin(2 * std::numbers::pi * (hz * t + cycles)));
    }
    ends.push_back(static_cast<std::int64_t>(samples_.size()));
    return *this;
  }
  [[nodiscard]] Audio audio(bool dithered = true) const {
    Audio audio(rate_, 1, static_cast<std::int64_t>(samples_.size()));
    const Quantiser quantiser(SampleFormat::pcm24, dithered, 3);
    for (std::size_t n = 0; n < samples_.size(); ++n)
      audio.channel(0)[n] = quantiser.value(samples_[n], 0, static_cast<std::int64_t>(n));
    return audio;
  }
  std::vector<std::int64_t> starts, ends;

 private:
  double rate_;
  std::vector<double> samples_;
};

Recognition recognised_in(const Audio& audio) {
  MemorySource source(audio);
  return recognise(source);
}

Audio rendered_part(const PartKind& kind, double rate) {
  Recipe recipe{
      .sample_rate_hz = rate, .bits = 32, .marks = false, .silence_before_s = 0.3, .silence_after_s = 0.4};
  recipe.parts.push_back({.kind = kind});
  Stimulus stimulus(recipe);
  Audio audio(rate, 1, stimulus.frames());
  stimulus.render(0, 0, audio.channel(0));
  return audio;
}

TEST(Recognise, StepsThatWereCutByHandAreFoundToTheFrame) {
  for (const double rate : {44100.0, 48000.0, 96000.0, 192000.0}) {
    Cut cut(rate);
    cut.silence(0.413);
    for (int i = 0; i < 10; ++i) cut.tone(997, -50 + 5 * i, 0.31 + 0.013 * i).silence(0.09 + 0.01 * (i % 3));
    const Recognition found = recognised_in(cut.audio());
    ASSERT_EQ(found.parts.size(), 1U) << rate;
    ASSERT_TRUE(found.parts[0].certain) << found.parts[0].reason;
    const auto& steps = std::get<Staircase>(found.parts[0].written.value());
    ASSERT_EQ(steps.levels_dbfs.size(), 10U);
    EXPECT_NEAR(steps.frequencies_hz.at(0) / 997, 1, 1e-6);
    for (std::size_t i = 0; i < 10; ++i) {
      EXPECT_NEAR(steps.levels_dbfs[i], -50 + 5 * static_cast<double>(i), 0.01);
      const double first = static_cast<double>(found.parts[0].first_frame) + steps.starts_s[i] * rate;
      EXPECT_NEAR(first, static_cast<double>(cut.starts[i]), 2) << rate << " step " << i;
      EXPECT_NEAR(first + steps.lengths_s[i] * rate, static_cast<double>(cut.ends[i]), 3)
          << rate << " step " << i;
    }
    EXPECT_LT(found.parts[0].stray_db.value(), -30);
  }
}

TEST(Recognise, EndsLieWithinAPeriodWhateverTheEdge) {
  for (const double hz : {50.0, 997.0, 15000.0})
    for (const double edge_s : {0.0, 0.002, 0.05}) {
      Cut cut(48000);
      cut.silence(0.2).tone(hz, -12, 0.5, edge_s).silence(0.2).tone(hz, -18, 0.4, edge_s).silence(0.3);
      const Recognition found = recognised_in(cut.audio());
      ASSERT_EQ(found.parts.size(), 1U) << hz << " " << edge_s;
      const auto& steps = std::get<Staircase>(found.parts[0].written.value());
      const double allowed = std::max(2.0, 48000 / hz);
      for (std::size_t i = 0; i < 2; ++i) {
        const double first = static_cast<double>(found.parts[0].first_frame) + steps.starts_s[i] * 48000;
        EXPECT_NEAR(first, static_cast<double>(cut.starts[i]), allowed) << hz << " " << edge_s;
        EXPECT_NEAR(first + steps.lengths_s[i] * 48000, static_cast<double>(cut.ends[i]), allowed);
        EXPECT_NEAR(steps.levels_dbfs[i], i == 0 ? -12 : -18, 0.01) << hz << " " << edge_s;
      }
    }
}

// A long fade of a high tone begins under the noise, many periods before anything is seen of it.
TEST(Recognise, AFadeThatBeginsUnderTheNoiseIsCarriedOn) {
  constexpr double kRate = 48000;
  for (const bool straight : {false, true})
    for (const double hz : {997.0, 15000.0}) {
      constexpr std::int64_t kFirst = 14400, kFrames = 38400, kEdge = 2400;
      Audio audio(kRate, 1, 72000);
      for (std::int64_t n = 0; n < audio.frames(); ++n) {
        const auto in = static_cast<double>(n - kFirst), out = static_cast<double>(kFirst + kFrames - n);
        const double share = std::clamp(std::min(in, out) / kEdge, 0.0, 1.0),
                     gain = straight ? share : 0.5 - 0.5 * std::cos(std::numbers::pi * share);
        audio.channel(0)[static_cast<std::size_t>(n)] =
            0.02 * gain * std::sin(2 * std::numbers::pi * hz / kRate * in) +
            1e-5 * gaussian(5, static_cast<std::uint64_t>(n));
      }
      const Recognition found = recognised_in(audio);
      ASSERT_EQ(found.parts.size(), 1U) << hz;
      ASSERT_EQ(found.parts[0].kind, "tone") << hz;
      const double period = std::max(2.0, kRate / hz);
      EXPECT_NEAR(static_cast<double>(found.parts[0].first_frame), kFirst, period) << hz << straight;
      EXPECT_NEAR(static_cast<double>(found.parts[0].frames), kFrames, period) << hz << straight;
      if (straight) continue;
      EXPECT_NEAR(std::get<Tone>(found.parts[0].written.value()).fade_in_s, 0.05, 5e-4) << hz;
    }
}

TEST(Recognise, TonesThatMeetAreToldApartToTheFrame) {
  Cut cut(48000);
  cut.silence(0.1).tone(400, -20, 0.7).tone(400, -14, 0.5, 0, 0.4).tone(2500, -14, 0.6).silence(0.2);
  const Recognition found = recognised_in(cut.audio());
  ASSERT_EQ(found.parts.size(), 2U);
  const auto& steps = std::get<Staircase>(found.parts[0].written.value());
  ASSERT_EQ(steps.levels_dbfs.size(), 2U);
  const double first = static_cast<double>(found.parts[0].first_frame);
  EXPECT_NEAR(first + steps.starts_s[1] * 48000, static_cast<double>(cut.starts[1]), 1);
  EXPECT_NEAR(static_cast<double>(found.parts[1].first_frame), static_cast<double>(cut.starts[2]), 1);
  EXPECT_NEAR(std::get<Tone>(found.parts[1].written.value()).frequency_hz, 2500, 1e-3);
}

TEST(Recognise, ABlockIsOneWaveWhoseLevelSteps) {
  for (const double rate : {44100.0, 96000.0}) {
    const auto low = static_cast<std::size_t>(0.5071 * rate), high = static_cast<std::size_t>(1.311 * rate);
    std::vector<double> x(static_cast<std::size_t>(0.4 * rate), 0.0);
    for (std::size_t n = 0; n < static_cast<std::size_t>(2.2 * rate); ++n)
      x.push_back((n < low || n >= high ? 0.01 : 0.4) *
                  std::sin(2 * std::numbers::pi * (997 * static_cast<double>(n) / rate + 0.2)));
    x.resize(x.size() + static_cast<std::size_t>(0.2 * rate), 0.0);
    Audio audio(rate, 1, static_cast<std::int64_t>(x.size()));
    std::copy(x.begin(), x.end(), audio.channel(0).begin());
    const Recognition found = recognised_in(audio);
    ASSERT_EQ(found.parts.size(), 1U);
    ASSERT_TRUE(found.parts[0].certain);
    const auto& block = std::get<LevelBlock>(found.parts[0].written.value());
    EXPECT_NEAR(block.low_s * rate, static_cast<double>(low), 2);
    EXPECT_NEAR((block.low_s + block.high_s) * rate, static_cast<double>(high), 2);
    EXPECT_NEAR(block.low_dbfs, -40, 1e-3);
    EXPECT_NEAR(block.high_dbfs, 20 * std::log10(0.4), 1e-3);
    EXPECT_LT(found.parts[0].stray_db.value(), -80);
  }
}

// Orders of 1/k, odd ones to the ninth: a sixth of the power is not the sine, and belongs to the tone all the
// same.
TEST(Recognise, ATonesOwnOrdersDoNotHideIt) {
  std::vector<double> x(9600, 0.0);
  for (const double hz : {301.0, 703.0})
    for (int n = 0; n < 48000; ++n) {
      double sum = 0;
      for (const int k : {1, 3, 5, 7, 9}) sum += std::sin(2 * std::numbers::pi * k * hz * n / 48000) / k;
      x.push_back(0.3 * sum);
    }
  x.resize(x.size() + 9600, 0.0);
  const Recognition found = recognised_in(audio_of(x, 48000));
  ASSERT_EQ(found.parts.size(), 1U);
  EXPECT_FALSE(found.parts[0].certain);  // it may be a note
  const auto& steps = std::get<Staircase>(found.parts[0].written.value());
  ASSERT_EQ(steps.frequencies_hz.size(), 2U);
  EXPECT_NEAR(steps.frequencies_hz[0], 301, 1e-3);
  EXPECT_NEAR(steps.frequencies_hz[1], 703, 1e-3);
}

// What our own generator makes, described as it was asked for.
TEST(Recognise, EveryKindIsDescribed) {
  struct Case {
    PartKind kind;
    std::string word, words;
  };
  const std::vector<Case> cases = {
      {Tone{.frequency_hz = 1234.5, .level_dbfs = -12, .seconds = 2}, "tone", "1234.5 Hz, -12.00 dBFS"},
      {TwoTone{.pair = "smpte", .seconds = 2}, "multitone", "2 tones at once: 60 Hz, 7000 Hz"},
      {TwoTone{.pair = "itu", .seconds = 2, .fade_in_s = 0.01, .fade_out_s = 0.01}, "multitone",
       "19000 Hz, 20000 Hz"},
      {Multitone{.oscillators = {{.frequency_hz = 1000, .level_dbfs = -40, .to_dbfs = -3.0}}, .seconds = 5},
       "multitone", "runs from -40.00 to -3.00 dBFS"},
      {Sweep{.from_hz = 20, .to_hz = 20000, .seconds = 4}, "sweep", "an exponential sweep from 20"},
      {Sweep{.from_hz = 20000, .to_hz = 20, .seconds = 4}, "sweep", "an exponential sweep from 19999"},
      {Sweep{.from_hz = 100, .to_hz = 20000, .seconds = 4, .law = "linear", .return_trip = true}, "sweep",
       "and back"},
      {Sweep{.from_hz = 20, .to_hz = 200, .seconds = 5}, "sweep", "an exponential sweep from 20"},
      {Noise{.seconds = 4}, "noise", "white noise, -20.0"},
      {Noise{.colour = "pink", .seconds = 4}, "noise", "pink noise, -20.0"},
      {Noise{.from_hz = 500, .to_hz = 2000.0, .seconds = 4}, "noise", "white noise from 4"},
      {Noise{.colour = "pink", .period_s = 0.5, .seconds = 5}, "noise", "which repeats every 0."},
      {Burst{.carrier = Tone{}, .on_s = 0.05}, "burst", "5 bursts of 997"},
      {LevelBlock{}, "block", "a block of 997 Hz: -40.00, -10.00"},
      {Impulse{.level_dbfs = -6, .negative = true}, "impulse", "one sample, -6.00 dBFS, downwards"}};
  for (const Case& c : cases)
    for (const double rate : {44100.0, 96000.0}) {
      const Recognition found = recognised_in(rendered_part(c.kind, rate));
      ASSERT_EQ(found.parts.size(), 1U) << c.words << " " << rate;
      const RecognisedPart& part = found.parts.front();
      EXPECT_TRUE(part.certain) << c.words << ": " << part.reason;
      EXPECT_EQ(part.kind, c.word);
      EXPECT_HAS(described(part), c.words);
      EXPECT_NEAR(static_cast<double>(part.first_frame), 0.3 * rate, 0.002 * rate) << c.words;
      EXPECT_LT(part.stray_db.value_or(-100), -45) << c.words << " " << rate;
    }
}

TEST(Recognise, ProgrammeIsNeverTakenForATestSignal) {
  for (const char* content : {"voice", "chamber"})
    for (int seed = 1; seed <= 6; ++seed)
      for (const RecognisedPart& part :
           recognised_in(rendered_part(Programme{.content = content, .seconds = 6, .seed = seed}, 48000))
               .parts)
        EXPECT_FALSE(part.certain) << content << seed << ": " << described(part);
}

TEST(Recognise, WhatMayBeMusicIsNotCertain) {
  // A tune of bare sines, and a tone among words.
  Cut tune(48000);
  tune.silence(0.2);
  for (const double hz : {440.0, 554.4, 493.9, 587.3, 440.0, 659.3, 523.3})
    tune.tone(hz, -12, 0.3, 0.01).silence(0.02);
  for (const RecognisedPart& part : recognised_in(tune.audio()).parts) {
    EXPECT_FALSE(part.certain) << described(part);
    EXPECT_HAS(part.reason, "tune");
  }
  Audio words = rendered_part(Programme{.content = "voice", .seconds = 4}, 48000);
  for (std::size_t n = 0; n < 14400; ++n)
    words.channel(0)[n] =
        n > 2400 ? 0.1 * std::sin(2 * std::numbers::pi * 800 * static_cast<double>(n) / 48000) : 0;
  for (const RecognisedPart& part : recognised_in(words).parts) EXPECT_FALSE(part.certain) << described(part);
  // A distorted tone may be a note; with one overtone it is no pair of tones either.
  Cut rich(48000);
  rich.silence(0.2).tone(440, -6, 2);
  Audio second = rich.audio();
  for (std::size_t n = 9600; n < second.channel(0).size(); ++n)
    second.channel(0)[n] += 0.05 * std::sin(2 * std::numbers::pi * 880 * static_cast<double>(n) / 48000);
  for (const RecognisedPart& part : recognised_in(second).parts) {
    EXPECT_FALSE(part.certain) << described(part);
    EXPECT_EQ(part.kind, "tone");
  }
  Cut clipped(48000);
  clipped.silence(0.2).tone(440, -6, 1);
  Audio audio = clipped.audio();
  for (double& v : audio.channel(0)) v = std::clamp(v, -0.2, 0.2);
  const Recognition found = recognised_in(audio);
  ASSERT_EQ(found.parts.size(), 1U);
  EXPECT_FALSE(found.parts[0].certain);
  EXPECT_HAS(found.parts[0].reason, "overtones");
}

TEST(Recognise, UnderNoiseTheFiguresHold) {
  Cut cut(48000);
  cut.silence(0.4);
  for (int i = 0; i < 6; ++i) cut.tone(1000, -30 + 5 * i, 0.4).silence(0.15);
  Audio audio = cut.audio();
  for (std::size_t n = 0; n < audio.channel(0).size(); ++n) audio.channel(0)[n] += 3e-4 * gaussian(5, n);
  const Recognition found = recognised_in(audio);
  EXPECT_NEAR(found.idle_dbfs, -70.5, 1.5);
  ASSERT_EQ(found.parts.size(), 1U);
  const auto& steps = std::get<Staircase>(found.parts[0].written.value());
  ASSERT_EQ(steps.levels_dbfs.size(), 6U);
  for (std::size_t i = 0; i < 6; ++i) {
    EXPECT_NEAR(steps.levels_dbfs[i], -30 + 5 * static_cast<double>(i), 0.02);
    EXPECT_NEAR(static_cast<double>(found.parts[0].first_frame) + steps.starts_s[i] * 48000,
                static_cast<double>(cut.starts[i]), 48);
  }
}

TEST(Recognise, ARecipeOfItIsTheSignalAgain) {
  Cut cut(48000);
  cut.silence(0.25)
      .tone(100, -20, 0.5)
      .silence(0.1)
      .tone(1000, -10, 0.5)
      .silence(0.3)
      .tone(1000, -20, 0.5)
      .silence(7);
  cut.tone(50, -6, 1).silence(0.2);
  const Audio audio = cut.audio();
  const auto made = recipe_of(recognised_in(audio), 1);
  ASSERT_TRUE(made);
  EXPECT_TRUE(made->left_out.empty());
  Stimulus stimulus(parse_recipe(recipe_text(made->recipe), "again"));
  ASSERT_NEAR(static_cast<double>(stimulus.frames()), static_cast<double>(audio.frames()), 2);
  std::vector<double> again(static_cast<std::size_t>(audio.frames()));
  stimulus.render(0, 0, again);
  double left = 0, all = 0;
  for (std::size_t n = 0; n < again.size(); ++n) {
    left += (again[n] - audio.channel(0)[n]) * (again[n] - audio.channel(0)[n]);
    all += audio.channel(0)[n] * audio.channel(0)[n];
  }
  EXPECT_LT(left, 1e-4 * all);
}

TEST(Recognise, EdgesOfWhatThereIs) {
  const auto refused = [](const Audio& audio) {
    MemorySource source(audio);
    return message_of(ErrorCode::bad_input, [&] { (void)recognise(source); });
  };
  EXPECT_HAS(refused(Audio(48000, 1, 0)), "0 frames");
  EXPECT_HAS(refused(Audio(48000, 2, 48000)), "silent");
  Audio broken(48000, 1, 48000);
  broken.channel(0)[100] = std::numeric_limits<double>::quiet_NaN();
  EXPECT_HAS(refused(broken), "NaN or infinity (channel 1, near frame 96)");
  Audio one(48000, 1, 1);
  one.channel(0)[0] = 0.5;
  EXPECT_EQ(recognised_in(one).parts.at(0).kind, "impulse");
  Audio offset(48000, 1, 48000);
  for (double& v : offset.channel(0)) v = 0.1;
  EXPECT_EQ(recognised_in(offset).parts.at(0).kind, "offset");
  // The second of 64 channels sounds, at 768 kHz.
  Audio wide(768000, 64, 76800);
  for (std::size_t n = 0; n < 76800; ++n)
    wide.channel(1)[n] = 0.1 * std::sin(2 * std::numbers::pi * 997 * static_cast<double>(n) / 768000);
  const Recognition found = recognised_in(wide);
  EXPECT_EQ(found.channel, 1);
  ASSERT_EQ(found.parts.size(), 1U);
  EXPECT_NEAR(std::get<Tone>(found.parts[0].written.value()).frequency_hz, 997, 0.01);
  EXPECT_HAS(message_of(ErrorCode::bad_argument,
                        [&] {
                          MemorySource source(wide);
                          (void)recognise(source, 64);
                        }),
             "no channel 65");
}

// Through the gate: what was recognised is known, its pauses are no dropouts, and B is placed by it although
// its levels were changed.
TEST(Recognise, BLiesWhereItsTonesLie) {
  for (const double late : {0.0, 1234.0}) {
    Cut cut(48000);
    cut.silence(0.3);
    for (int i = 0; i < 9; ++i)
      cut.tone(1000, -44 + 5 * i, 0.35 + 0.02 * (i % 4)).silence(0.07 + 0.011 * (i % 5));
    const Audio a = cut.audio();
    Audio b(48000, 1, a.frames() + 4800);
    for (std::size_t n = 0; n < a.channel(0).size(); ++n) {
      const double x = a.channel(0)[n];
      // An instant compressor: no alignment by likeness holds for its residual.
      b.channel(0)[n + static_cast<std::size_t>(late)] = 0.5 * std::tanh(8 * x) / 4;
    }
    GatePolicy held{.hold_faults = true}, policy;
    const JudgedCapture known = recognised(judge(a, SampleFormat::pcm24, {}, held), policy);
    ASSERT_TRUE(known.played());
    EXPECT_TRUE(known.held_faults().empty());
    const JudgedCapture placed = placed_by(
        judge(b, SampleFormat::float64, {known.known_stimulus(), std::nullopt}, held), known, policy);
    ASSERT_TRUE(placed.played());
    EXPECT_NEAR(placed.take().first_frame, late, 0.1);
  }
}

// A tone that was cut by hand is no fault; one that a link has cut is, whatever it looks like.
TEST(Recognise, DropoutsAreNotTakenForPauses) {
  const auto dropouts = [](const Audio& audio) {
    return check_health(audio, nullptr, {.format = SampleFormat::pcm24}).channels.at(0).dropout_count;
  };
  Cut cut(48000);
  cut.silence(0.2);
  for (int i = 0; i < 4; ++i) cut.tone(997, -20, 0.4, 0, 0.1 + 0.2 * i).silence(0.1);
  EXPECT_EQ(dropouts(cut.audio(false)), 0);
  Cut steady(48000);
  Audio cut_off = steady.silence(0.2).tone(997, -20, 2).silence(0.2).audio(false);
  for (std::size_t n = 48000; n < 50000; ++n) cut_off.channel(0)[n] = 0;
  EXPECT_EQ(dropouts(cut_off), 1);
  // Pauses between tones forgive nothing beside them.
  Audio words = rendered_part(Programme{.content = "chamber", .seconds = 4}, 48000);
  for (std::size_t n = 60000; n < 62000; ++n) words.channel(0)[n] = 0;
  const std::int64_t alone = dropouts(words);
  EXPECT_GE(alone, 1);
  Audio both(48000, 1, words.frames() + cut.audio().frames());
  std::copy(words.channel(0).begin(), words.channel(0).end(), both.channel(0).begin());
  const Audio tones = cut.audio(false);
  std::copy(tones.channel(0).begin(), tones.channel(0).end(), both.channel(0).begin() + words.frames());
  EXPECT_GE(dropouts(both), alone);
}

// Steps and a block through a device that nothing can be lined up by, with a drift and with lost frames.
class PlacedByParts : public ::testing::Test {
 protected:
  void SetUp() override {
    cut_.silence(0.3);
    for (int i = 0; i < 9; ++i)
      cut_.tone(1000, -44 + 5 * i, 0.35 + 0.02 * (i % 4)).silence(0.07 + 0.011 * (i % 5));
    const Audio tones = cut_.audio();
    x_.assign(tones.channel(0).begin(), tones.channel(0).end());
    x_.resize(x_.size() + 24000, 0.0);
    block_ = static_cast<std::int64_t>(x_.size());
    for (int n = 0; n < 105600; ++n)
      x_.push_back((n < 24336 || n >= 62933 ? 0.01 : 0.4) *
                   std::sin(2 * std::numbers::pi * 997 * n / 48000.0));
    x_.resize(x_.size() + 9600, 0.0);
    known_ = recognised(judge(audio_of(x_, 48000), SampleFormat::float64, {}, held_), policy_);
    ASSERT_TRUE(known_->played());
    ASSERT_EQ(known_->stimulus().parts().size(), 2U);
  }
  // A bend that no alignment proves itself through.
  static std::vector<double> bent(std::vector<double> x) {
    for (double& v : x) v = 0.125 * std::tanh(8 * v);
    return x;
  }
  [[nodiscard]] JudgedCapture placed(const std::vector<double>& y) const {
    return placed_by(
        judge(audio_of(y, 48000), SampleFormat::float64, {known_->known_stimulus(), std::nullopt}, held_),
        *known_, policy_);
  }
  const GatePolicy held_{.hold_faults = true}, policy_{.despite_faults = true};
  std::optional<JudgedCapture> known_;
  Cut cut_{48000};
  std::vector<double> x_;
  std::int64_t block_ = 0;
};

TEST_F(PlacedByParts, ADriftIsFollowed) {
  for (const double ppm : {0.0, 60.0, -250.0}) {
    const double step = 1 / (1 + ppm * 1e-6);
    const JudgedCapture b = placed(bent(resampled(x_, step, 777.3 * step, x_.size() + 4800)));
    ASSERT_TRUE(b.played()) << ppm;
    EXPECT_NEAR(b.take().first_frame, 777.3, 0.3) << ppm;
    EXPECT_NEAR((b.take().frames_per_frame - 1) * 1e6, ppm, 2) << ppm;
    // Where the block steps is what its times are counted from.
    const double up = static_cast<double>(block_) + 24336;
    EXPECT_NEAR(b.take().first_frame + up * b.take().frames_per_frame, 777.3 + up * (1 + ppm * 1e-6), 0.3)
        << ppm;
  }
}

TEST_F(PlacedByParts, LostFramesAreRefused) {
  for (const std::int64_t lost : {30, 288, 300, 1000})
    for (const std::int64_t at : {std::int64_t{100000}, block_ - 9000}) {
      auto y = bent(x_);
      y.erase(y.begin() + at, y.begin() + at + lost);
      EXPECT_FALSE(placed(y).played()) << lost << " at " << at;
    }
}

// A wrong figure without a word would be worse than none.
TEST(Recognise, ChannelsThatHoldOtherSignalsAreLeftAlone) {
  Audio both(48000, 2, 96000);
  for (std::size_t n = 0; n < 96000; ++n) {
    const double t = 2 * std::numbers::pi * static_cast<double>(n) / 48000;
    both.channel(0)[n] = 0.3 * std::sin(440 * t);
    both.channel(1)[n] = 0.2 * std::sin(1000 * t);
  }
  EXPECT_FALSE(recognised(judge(both), {}).known_stimulus());
  MemorySource source(both);
  EXPECT_EQ(recognise(source).other_channels, std::vector<int>{1});
  for (std::size_t n = 0; n < 96000; ++n) both.channel(1)[n] = -0.1 * both.channel(0)[n];
  EXPECT_TRUE(recognised(judge(both), {}).known_stimulus());
}

TEST(Recognise, ProductsOfAPairAreNotTakenForTones) {
  Audio pair(48000, 1, 96000);
  for (std::size_t n = 0; n < 96000; ++n) {
    const double t = 2 * std::numbers::pi * static_cast<double>(n) / 48000,
                 x = 0.4 * std::sin(60 * t) + 0.1 * std::sin(7000 * t);
    pair.channel(0)[n] = x + 0.002 * x * x;
  }
  EXPECT_FALSE(recognised(judge(pair), {}).known_stimulus());
}

}  // namespace
}  // namespace wavicon::recognise_test
