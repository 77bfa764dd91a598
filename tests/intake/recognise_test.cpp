// SPDX-License-Identifier: MIT
#include "wavicon/intake/recognise.hpp"

#include "support.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
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
        const auto found = recognise_sweep(source);
        ASSERT_TRUE(found) << rate << law << falling;
        EXPECT_EQ(found->sweep.law, law);
        EXPECT_LT(found->spread_rad, 1e-3);
        // The same phase all along, up to a constant: that of the first frame that sounds.
        const double late_s = static_cast<double>(found->first_frame) / rate - 0.37;
        double first = 0;
        for (double t = 0.5; t < 6; t += 0.25) {
          const double difference = sweep_cycles(found->sweep, t - late_s) - sweep_cycles(sweep, t);
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
      EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)recognise_sweep(source); }).find("silent"),
                std::string::npos);
    else
      EXPECT_FALSE(recognise_sweep(source)) << kind_name(kind);
  }
  const Audio none(48000, 1, 0);
  MemorySource empty(none);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)recognise_sweep(empty); }).find("0 frames"),
            std::string::npos);
  const Audio one(48000, 1, 1);
  MemorySource channel(one);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)recognise_sweep(channel, 1); }).find("no channel 2"),
      std::string::npos);
}

}  // namespace
}  // namespace wavicon
