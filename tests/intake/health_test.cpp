// SPDX-License-Identifier: MIT
#include "wavicon/intake/health.hpp"

#include <bit>
#include <numbers>

#include "intake/damage.hpp"
#include "intake/hit_signals.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/path/chain.hpp"

namespace wavicon::health_test {
namespace {

using namespace testing;

constexpr double kRates[] = {44100, 48000, 96000};
constexpr double kPlace = 0.002;  // seconds within which a fault has to be placed

Sheet checked(const Audio& capture, Stimulus* stimulus, SampleFormat format = SampleFormat::float32) {
  return health_sheet(check_health(capture, stimulus, {.format = format}),
                      {.channels = capture.channel_count()});
}

// What Sandpiper makes of a stimulus, with half a second of silence around it.
Audio through_sandpiper(const std::string& settings, Stimulus& stimulus) {
  const double rate = stimulus.recipe().sample_rate_hz;
  const auto silence = static_cast<std::size_t>(rate / 2);
  const auto x = padded(rendered(stimulus), silence, silence);
  std::vector<std::unique_ptr<Unit>> units;
  units.push_back(open_unit(parse_unit("sim:sandpiper?" + settings)));
  Chain chain(std::move(units));
  chain.prepare(rate, 1, 512);
  std::size_t at = 0, out = 0;
  Audio capture(rate, 1, static_cast<std::int64_t>(x.size()));
  chain.feed(
      [&](std::span<float> block) {
        for (float& v : block) v = static_cast<float>(x[at++]);
        return static_cast<std::int64_t>(block.size());
      },
      capture.frames(),
      [&](std::span<const float> block) {
        for (const float v : block) capture.channel(0)[out++] = v;
      });
  return capture;
}

double time_in(const std::string& text) {
  const auto end = text.find(" s;");
  const auto seconds = text.find(" at ");
  return seconds == std::string::npos
             ? -1
             : std::stod(text.substr(seconds + 4, end == std::string::npos ? 12 : end - seconds - 4));
}

TEST(Health, EveryDamageIsFoundNamedAndPlaced) {
  for (const double rate : kRates) {
    Stimulus stimulus(booth_recipe(rate));
    struct Damage {
      std::string settings, words;
      double at_s;
    };
    // Half a second of silence and 0.4 s of mark and gap come before the tone; the sweep runs from 1.4 s
    // to 2.9 s.
    for (const Damage& d :
         {Damage{"drop_at=1.8&drop=480", "1 dropout: sound is cut off by zeros, first at", 1.8},
          Damage{"drop_at=2.7&drop=64", "1 dropout: sound is cut off by zeros, first at", 2.7},
          Damage{"lose_at=2.2&lose=512", "512 frames were lost at", 2.2},
          Damage{"lose_at=3.3&lose=300", "300 frames were lost at", 3.3},
          Damage{"repeat_at=2.2&repeat=1024", "1024 frames were repeated or inserted at", 2.2},
          Damage{"clip=-18", "frames are cut off at -18.00 dBFS, first at", -1},
          Damage{"clip=-17&level=-12", "frames are cut off at -29.00 dBFS, first at", -1},
          Damage{"repeat_at=1.9&repeat=256&in_place=1", "1 block was played again in place", 1.9},
          Damage{"repeat_at=3.2&repeat=512&in_place=1", "1 block was played again in place", 3.2},
          Damage{"repeat_at=3.2017&repeat=301&in_place=1", "1 block was played again in place", 3.2017},
          Damage{"invert=1", "the polarity is inverted", -1}}) {
      const std::string text = troubles(checked(through_sandpiper(d.settings, stimulus), &stimulus));
      EXPECT_NE(text.find(d.words), std::string::npos) << rate << " " << d.settings << "\n" << text;
      if (d.at_s > 0) {
        EXPECT_NEAR(time_in(text), d.at_s, kPlace) << rate << " " << d.settings << "\n" << text;
      }
      EXPECT_EQ(std::count(text.begin(), text.end(), '\n'), 1)
          << "nothing else: " << rate << " " << d.settings << "\n"
          << text;
    }
  }
}

TEST(Health, WhatTheFileItselfShows) {
  for (const double rate : kRates) {
    Stimulus stimulus(booth_recipe(rate));
    const auto x = padded(rendered(stimulus), 1000, 1000);
    auto troubled = [&](std::vector<double> y, SampleFormat format, Stimulus* against) {
      return troubles(checked(audio_of(y, rate), against, format));
    };
    auto loud = x;
    for (double& v : loud) v = Quantiser(SampleFormat::pcm24, false, 1).value(v * 12, 0, 0);
    EXPECT_NE(troubled(loud, SampleFormat::pcm24, &stimulus).find("fault: "), std::string::npos);
    EXPECT_NE(troubled(loud, SampleFormat::pcm24, &stimulus).find("the capture itself clips"),
              std::string::npos);
    auto coarse = x;
    for (std::size_t n = 0; n < coarse.size(); ++n)
      coarse[n] = Quantiser(SampleFormat::pcm16, true, 1).value(x[n], 0, static_cast<std::int64_t>(n));
    EXPECT_EQ(troubled(coarse, SampleFormat::pcm24, &stimulus),
              "warning: only 16 of the 24 bits are used: it was a 16-bit file before\n");
    EXPECT_EQ(troubled(coarse, SampleFormat::pcm16, &stimulus), "");
    auto offset = x;
    for (double& v : offset) v += 0.01;
    EXPECT_EQ(troubled(offset, SampleFormat::float32, &stimulus).rfind("warning: DC offset of 0.0", 0), 0U);
    auto broken = x;
    broken[777] = NAN;
    EXPECT_NE(troubled(broken, SampleFormat::float32, &stimulus).find("fault: holds NaN or infinity"),
              std::string::npos);
    EXPECT_NE(troubled(std::vector<double>(10000, 0.0), SampleFormat::pcm24, &stimulus)
                  .find("the capture is silent"),
              std::string::npos);
    Stimulus other({.sample_rate_hz = rate, .parts = {{.kind = Silence{}}}});
    std::vector<double> tone(static_cast<std::size_t>(rate));
    for (std::size_t n = 0; n < tone.size(); ++n)
      tone[n] = 0.1 * exact_sine(331, rate, static_cast<std::int64_t>(n));
    EXPECT_NE(troubled(tone, SampleFormat::pcm24, &stimulus).find("the stimulus is not in this capture"),
              std::string::npos);
    EXPECT_NE(troubled({x.begin() + static_cast<long>(0.2 * rate), x.end()}, SampleFormat::pcm24, &stimulus)
                  .find("the start is cut off"),
              std::string::npos);
    EXPECT_NE(troubled({x.begin(), x.end() - static_cast<long>(0.2 * rate)}, SampleFormat::pcm24, &stimulus)
                  .find("the end is cut off"),
              std::string::npos);
  }
  Stimulus made(booth_recipe(44100));
  EXPECT_NE(troubles(checked(audio_of(rendered(made), 48000), &made))
                .find("a 44.1 kHz stimulus was played as 48 kHz"),
            std::string::npos);
}

TEST(Health, NoFalseAlarmOnUndamagedCaptures) {
  int captures = 0;
  for (const double rate : kRates)
    for (std::int64_t seed = 1; seed <= 6; ++seed)
      for (const auto format : {SampleFormat::pcm16, SampleFormat::pcm24, SampleFormat::float32}) {
        Stimulus stimulus(booth_recipe(rate, seed));
        auto y = padded(rendered(stimulus), static_cast<std::size_t>(500 * seed), 3000);
        const double gain = ratio_from_db(2.0 * static_cast<double>(seed) - 6);
        for (std::size_t n = 0; n < y.size(); ++n)
          y[n] = Quantiser(format, true, 1)
                     .value(gain * y[n] + 1e-5 * gaussian(7, n), 0, static_cast<std::int64_t>(n));
        EXPECT_EQ(troubles(checked(audio_of(y, rate), &stimulus, format)), "")
            << rate << " " << seed << " " << name_of(format);
        EXPECT_EQ(troubles(checked(audio_of(y, rate), nullptr, format)), "")
            << rate << " " << seed << " " << name_of(format);
        ++captures;
      }
  EXPECT_GE(captures, 50);
}

TEST(Health, LowTonesAndGapsAreNoFaults) {
  Recipe recipe{.bits = 16};
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 20, .level_dbfs = 0, .seconds = 1}});
  recipe.parts.push_back({.kind = Burst{.on_s = 0.02, .gap = 4, .edge_s = 0.002}});
  recipe.parts.push_back({.kind = Staircase{.gap_s = 0.1}});
  recipe.parts.push_back({.kind = ChannelNumbers{}});
  Stimulus stimulus(recipe);
  auto x = rendered(stimulus);
  for (double& v : x) v = Quantiser(SampleFormat::pcm16, false, 1).value(v, 0, 0);
  EXPECT_EQ(troubles(checked(audio_of(x, 48000), &stimulus, SampleFormat::pcm16)), "")
      << "flat crests of 16-bit bass, silence between bursts";
  EXPECT_EQ(troubles(checked(audio_of(x, 48000), &stimulus, SampleFormat::pcm24)),
            "warning: only 16 of the 24 bits are used: it was a 16-bit file before\n");
}

TEST(Health, NoFalseAlarmOnProgramme) {
  for (const double rate : kRates)
    for (const char* content : {"voice", "chamber"})
      for (const auto format : {SampleFormat::pcm16, SampleFormat::pcm24, SampleFormat::float32}) {
        Recipe recipe{.sample_rate_hz = rate};
        recipe.parts.push_back(
            {.kind = Programme{.content = content, .level_dbfs = -21, .seconds = 6, .seed = 4}});
        recipe.parts.push_back(
            {.kind = Noise{.colour = "pink", .level_dbfs = -62, .seconds = 6}, .with_previous = true});
        Stimulus stimulus(recipe);
        auto y = rendered(stimulus);
        for (std::size_t n = 0; n < y.size(); ++n)
          y[n] = Quantiser(format, true, 1).value(0.9 * y[n], 0, static_cast<std::int64_t>(n));
        EXPECT_EQ(troubles(checked(audio_of(y, rate), &stimulus, format)), "") << rate << " " << content;
        EXPECT_EQ(troubles(checked(audio_of(y, rate), nullptr, format)), "") << rate << " " << content;
      }
}

TEST(Health, ClicksOversHumAndBitsAreTold) {
  for (const double rate : kRates) {
    Recipe recipe = booth_recipe(rate);
    recipe.parts.push_back({.kind = Silence{.seconds = 2}});
    Stimulus stimulus(recipe);
    const auto x = rendered(stimulus);
    auto troubled = [&](const std::vector<double>& y, SampleFormat format = SampleFormat::float32) {
      return troubles(checked(audio_of(y, rate), &stimulus, format));
    };
    auto clicked = x;
    clicked[static_cast<std::size_t>(0.8 * rate)] += 0.05;
    for (std::size_t n = 0; n < 40; ++n) clicked[static_cast<std::size_t>(1.5 * rate) + n] += 0.02;
    const std::string clicks = troubled(clicked);
    EXPECT_NE(clicks.find("2 jumps, first at 0.8"), std::string::npos) << rate << clicks;
    EXPECT_EQ(std::count(clicks.begin(), clicks.end(), '\n'), 1) << clicks;

    // Hum at -60 and -66 dBFS; the lines of the other mains frequency are not there.
    for (const double base : {50.0, 60.0}) {
      auto hummed = x;
      for (std::size_t n = 0; n < hummed.size(); ++n)
        hummed[n] += 0.001 * exact_sine(base, rate, static_cast<std::int64_t>(n)) +
                     0.0005 * exact_sine(3 * base, rate, static_cast<std::int64_t>(n));
      char words[100];
      std::snprintf(words, sizeof words, "multiples of %g Hz, the strongest -60.0 dBFS at %g Hz", base, base);
      EXPECT_NE(troubled(hummed).find(words), std::string::npos) << rate << troubled(hummed);
    }

    // The last 6 bits hold a pattern that never changes.
    auto stuck = x;
    for (double& v : stuck) v = (std::floor(v * 0x1p17) * 64 + 21) * 0x1p-23;
    EXPECT_NE(troubled(stuck, SampleFormat::pcm24).find("the lowest 6 bits never change"), std::string::npos)
        << troubled(stuck, SampleFormat::pcm24);
  }
  // At a quarter of the rate, 45 degrees off, samples of 0.78 mean a crest of 1.1: +0.83 dB.
  Recipe recipe;
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 12000,
                                       .level_dbfs = 0.83,
                                       .phase_deg = 45,
                                       .fade_in_s = 0.01,
                                       .fade_out_s = 0.01}});
  Stimulus stimulus(recipe);
  const auto text = troubles(checked(audio_of(rendered(stimulus), 48000), &stimulus, SampleFormat::pcm24));
  EXPECT_NE(text.find("exceeds full scale between its samples, up to +0.8"), std::string::npos) << text;
}

TEST(Health, HardBeginningsBehindALossWerePlayed) {
  Recipe recipe = booth_recipe(48000);
  for (int i = 0; i < 3; ++i)
    recipe.parts.push_back(
        {.kind = Tone{.frequency_hz = 997, .level_dbfs = -20, .phase_deg = 90, .seconds = 0.3},
         .silence_after_s = 0.2});
  Stimulus stimulus(recipe);
  const std::string text = troubles(checked(through_sandpiper("lose_at=2.2&lose=512", stimulus), &stimulus));
  EXPECT_EQ(std::count(text.begin(), text.end(), '\n'), 1) << text;
  EXPECT_NE(text.find("512 frames were lost at"), std::string::npos) << text;
}

TEST(Health, OneInvertedChannelAndGainsAreTold) {
  Recipe recipe = booth_recipe(48000);
  recipe.channel_count = 2;
  Stimulus stimulus(recipe);
  const auto x = rendered(stimulus);
  Audio capture(48000, 2, static_cast<std::int64_t>(x.size()));
  for (std::size_t n = 0; n < x.size(); ++n) {
    capture.channel(0)[n] = 0.70711 * x[n];
    capture.channel(1)[n] = -0.35355 * x[n];
  }
  const Sheet sheet = checked(capture, &stimulus);
  EXPECT_EQ(troubles(sheet), "warning: the polarity is inverted, unlike that of other channels\n");
  std::string all;
  for (const Finding& finding : sheet.findings) all += finding.text + "\n";
  EXPECT_NE(all.find("-6.02 dB against channel 1"), std::string::npos) << all;
  EXPECT_NE(all.find("-3.01 dB is what a pan law"), std::string::npos) << all;
  for (std::size_t n = 0; n < x.size(); ++n) capture.channel(1)[n] = -capture.channel(0)[n];
  EXPECT_NE(troubles(checked(capture, nullptr)).find("channel 1 with its polarity turned"),
            std::string::npos);
}

TEST(Health, LongCapturesTakeNoMoreMemory) {
  // A source that makes its samples when they are read: what is asked for at once stays short.
  class Endless : public AudioSource {
   public:
    double sample_rate_hz() const noexcept override { return 8000; }
    int channel_count() const noexcept override { return 1; }
    std::int64_t frames() const noexcept override { return 300 * 8000; }
    void read(std::int64_t first, std::span<double> planar) override {
      longest = std::max(longest, planar.size());
      for (std::size_t n = 0; n < planar.size(); ++n)
        planar[n] =
            0.1 * random_triangular(3, 0, static_cast<std::uint64_t>(first + static_cast<std::int64_t>(n)));
    }
    std::size_t longest = 0;
  } source;
  Recipe recipe{.sample_rate_hz = 8000};
  recipe.parts.push_back({.kind = Silence{}});
  Stimulus stimulus(recipe);
  const auto result = check_health(source, nullptr);
  EXPECT_EQ(result.channels[0].dropout_count + result.channels[0].clipped_frames +
                result.channels[0].repeat_count + result.channels[0].jump_count,
            0);
  EXPECT_TRUE(locate(source, stimulus, {.least_match = 0.9}).empty());
  EXPECT_LE(source.longest, 65536U);
}

TEST(Health, SeveralTakesAndChannels) {
  Recipe recipe = booth_recipe(48000);
  recipe.channel_count = 2;
  Stimulus stimulus(recipe);
  const auto x = rendered(stimulus);
  auto twice = padded(x, 100, 1000);
  twice.insert(twice.end(), x.begin(), x.end());
  Audio capture(48000, 2, static_cast<std::int64_t>(twice.size()));
  std::copy(twice.begin(), twice.end(), capture.channel(1).begin());
  const auto result = check_health(capture, &stimulus, {.take = 1});
  ASSERT_EQ(result.takes.size(), 2U);
  EXPECT_EQ(*result.best, 1U);
  const auto sheet = health_sheet(result, {.channels = 2});
  EXPECT_NE(troubles(sheet).find("channel 1 should carry the stimulus and is silent"), std::string::npos);
  EXPECT_FALSE(is_unfit(sheet));
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)check_health(capture, &stimulus, {.take = 2}); })
                .find("there is no take 3"),
            std::string::npos);
  std::copy(twice.begin(), twice.end(), capture.channel(0).begin());
  EXPECT_TRUE(check_health(capture, nullptr).same_on_all_channels);
}

TEST(Health, EdgesOfItsRange) {
  EXPECT_NE(message_of(ErrorCode::bad_input, [] { (void)check_health(Audio(48000, 1, 0), nullptr); })
                .find("0 frames"),
            std::string::npos);
  Audio one(768000, 64, 1);
  one.channel(3)[0] = 0.5;
  const auto result = check_health(one, nullptr);
  EXPECT_EQ(result.channels.size(), 64U);
  EXPECT_EQ(result.channels[3].peak, 0.5);
  EXPECT_FALSE(result.channels[3].silent);
  Audio all(48000, 1, 100);
  for (double& v : all.channel(0)) v = 1.0;
  EXPECT_EQ(check_health(all, nullptr).channels[0].dropout_count, 0);
}

// Samples on a drum track end hard, and the next one begins: nothing was lost. What goes on behind zeros was
// cut.
// Noise on either side of a dropout is recognised as noise, and still nobody made the pause between.
TEST(Health, ADropoutInNoiseIsOneHoweverLong) {
  for (const std::size_t frames : {100U, 300U, 1000U, 2400U, 9000U}) {
    std::vector<double> x(144000);
    for (std::size_t n = 0; n < x.size(); ++n)
      x[n] = n >= 50000 && n < 50000 + frames ? 0 : std::round(0x1p23 * 0.1 * gaussian(11, n)) / 0x1p23;
    const auto health = check_health(audio_of(x, 48000), nullptr);
    ASSERT_EQ(health.channels[0].dropout_count, 1) << frames;
    EXPECT_EQ(health.channels[0].dropouts[0].first_frame, 50000) << frames;
    EXPECT_EQ(health.channels[0].dropouts[0].frames, static_cast<std::int64_t>(frames));
  }
}

TEST(Health, PausesBetweenHitsAreNoDropouts) {
  const RowOfHits row = row_of(12, 5);
  for (const double rate : {44100.0, 96000.0}) {
    auto x = samples_of(row, rate);
    // Each is cut off 0.1 s before the next one.
    for (std::size_t i = 1; i < row.times_s.size(); ++i)
      for (auto n = static_cast<std::size_t>((row.times_s[i] - 0.1) * rate);
           n < static_cast<std::size_t>(row.times_s[i] * rate) - 2; ++n)
        x[n] = 0;
    // Snares begin with noise at once, so that both sides are cut.
    EXPECT_EQ(check_health(audio_of(x, rate), nullptr).channels[0].dropout_count, 0) << rate;
    const auto at = static_cast<std::size_t>((row.times_s[4] + 0.02) * rate);
    for (std::size_t n = at; n < at + 300; ++n) x[n] = 0;
    EXPECT_EQ(check_health(audio_of(x, rate), nullptr).channels[0].dropout_count, 1) << rate;
  }
}

// A capture that carries marks and is given a reference too: one delay, one drift.
TEST(Health, MarksAndAReferenceSayOneThing) {
  Stimulus stimulus(booth_recipe(48000));
  const auto x = rendered(stimulus);
  const Audio reference = audio_of(x, 48000),
              capture = audio_of(resampled(x, 1, 700.25, x.size() + 4000), 48000);
  MemorySource played(reference);
  const auto result = check_health(capture, &stimulus, {.reference = &played});
  EXPECT_TRUE(result.aligned_by_marks);
  const Sheet sheet = health_sheet(result, {.file = "c.wav"});
  int delays = 0, drifts = 0;
  for (const Reading& reading : sheet.readings) {
    delays += reading.name == "delay_samples";
    drifts += reading.name == "drift_ppm";
    if (reading.name == "delay_samples") {
      EXPECT_NEAR(*reading.value, 700.25, 0.01);
    }
  }
  EXPECT_EQ(delays, 1);
  EXPECT_EQ(drifts, 1);
}

TEST(Health, ABandThatEndsEarlyWasConverted) {
  // White noise and a sweep at 48 kHz, played to 96 kHz: the upper octave is empty but for dither.
  Recipe recipe{.sample_rate_hz = 48000};
  recipe.parts.push_back({.kind = Noise{.level_dbfs = -20, .seconds = 1}});
  Stimulus low(recipe);
  const auto x = rendered(low);
  auto y = resampled(x, 0.5, 0, 2 * x.size());
  for (std::size_t n = 0; n < y.size(); ++n)
    y[n] = Quantiser(SampleFormat::pcm24, true, 1).value(y[n], 0, static_cast<std::int64_t>(n));
  const auto health = check_health(audio_of(y, 96000), nullptr, {.format = SampleFormat::pcm24}).channels[0];
  ASSERT_TRUE(health.band_end_hz);
  EXPECT_NEAR(*health.band_end_hz, 24000, 3500) << "the conversion's own filter falls over 4 kHz";
  recipe.sample_rate_hz = 96000;
  Stimulus high(recipe);
  EXPECT_NE(troubles(checked(audio_of(y, 96000), &high, SampleFormat::pcm24)).find("the spectrum ends at 2"),
            std::string::npos);
  EXPECT_FALSE(check_health(audio_of(rendered(high), 96000), &high).channels[0].band_end_hz);
  // What the stimulus ends by itself is no finding.
  std::get<Noise>(recipe.parts[0].kind).to_hz = 10000;
  Stimulus band(recipe);
  auto z = rendered(band);
  for (std::size_t n = 0; n < z.size(); ++n)
    z[n] = Quantiser(SampleFormat::pcm24, true, 1).value(z[n], 0, static_cast<std::int64_t>(n));
  EXPECT_EQ(troubles(checked(audio_of(z, 96000), &band, SampleFormat::pcm24)), "");
}

TEST(Health, SwappedChannelsAreTold) {
  Recipe recipe{.channel_count = 2};
  recipe.parts.push_back({.kind = ChannelNumbers{}});
  recipe.parts.push_back({.kind = Tone{}});
  Stimulus stimulus(recipe);
  Audio right(48000, 2, stimulus.frames()), swapped(48000, 2, stimulus.frames());
  for (int c = 0; c < 2; ++c) {
    stimulus.render(0, c, right.channel(c));
    stimulus.render(0, c, swapped.channel(1 - c));
  }
  EXPECT_EQ(troubles(checked(right, &stimulus)), "");
  EXPECT_EQ(troubles(checked(swapped, &stimulus)),
            "warning: holds channel 2 of the stimulus: the channels are swapped\nwarning: holds channel 1 of "
            "the stimulus: the channels are swapped\n");
}

// Noise of its own on each channel tells them apart as well, wherever it stands and however long it is: of a
// long one the first seconds are looked at.
TEST(Health, SwappedNoiseOfEachChannelIsTold) {
  for (const double seconds : {2.0, 9.0}) {
    Recipe recipe{.channel_count = 3};
    recipe.parts.push_back({.kind = Tone{}});
    recipe.parts.push_back({.kind = Noise{.colour = "pink", .seconds = seconds, .independent = true}});
    Stimulus stimulus(recipe);
    Audio right(48000, 3, stimulus.frames() + 5000), turned(48000, 3, stimulus.frames() + 5000);
    for (int c = 0; c < 3; ++c) {
      stimulus.render(-3000, c, right.channel(c));
      stimulus.render(-3000, c, turned.channel((c + 1) % 3));
    }
    EXPECT_EQ(troubles(checked(right, &stimulus)), "") << seconds;
    const HealthResult found = check_health(turned, &stimulus);
    EXPECT_EQ(found.carries, (std::vector<int>{2, 0, 1})) << seconds;
    // Where its beginning was cut off, by what is there.
    for (const std::int64_t lost : {60000, 420000}) {
      if (lost >= right.frames() - 60000) continue;
      MemorySource whole(right), moved(turned);
      const Audio late = read_stretch(whole, lost, right.frames()),
                  other = read_stretch(moved, lost, right.frames());
      const HealthResult cut = check_health(late, &stimulus), cut_other = check_health(other, &stimulus);
      ASSERT_TRUE(cut.best && cut_other.best) << lost;
      EXPECT_EQ(cut.carries, (std::vector<int>{0, 1, 2})) << seconds << " " << lost;
      EXPECT_EQ(cut_other.carries, (std::vector<int>{2, 0, 1})) << seconds << " " << lost;
    }
  }
}

TEST(HealthMeter, ReadsTheSameForAnyBlocks) {
  Stimulus stimulus(booth_recipe(48000));
  const Audio capture = through_sandpiper("clip=-18&drop_at=2&drop=100", stimulus);
  const auto whole = check_health(capture, nullptr).channels[0];
  for (const std::size_t block : {1U, 999U}) {
    HealthMeter meter(1, 48000, SampleFormat::float64);
    const auto x = capture.channel(0);
    for (std::size_t n = 0; n < x.size(); n += block) meter.push(x.subspan(n, std::min(block, x.size() - n)));
    const auto pieces = meter.finish()[0];
    EXPECT_EQ(pieces.clipped_frames, whole.clipped_frames);
    EXPECT_EQ(pieces.dropout_count, 1);
    EXPECT_EQ(pieces.dropouts[0].first_frame, whole.dropouts[0].first_frame);
    EXPECT_EQ(pieces.dc, whole.dc);
  }
}

std::string text_of(const ChannelHealth& h) {
  std::string text;
  const auto add = [&](auto value) { text += std::to_string(value) + " "; };
  for (const double value : {h.peak, h.dc, h.dc_spread, h.clip_level, h.highest_between})
    add(std::bit_cast<std::uint64_t>(value));
  for (const std::int64_t count :
       {h.clipped_frames, h.dropout_count, h.repeat_count, h.jump_count, h.over_count, h.over_frame})
    add(count);
  for (const auto* stretches : {&h.clipped, &h.dropouts, &h.repeats, &h.jumps})
    for (const Stretch& stretch : *stretches) {
      add(stretch.first_frame);
      add(stretch.frames);
    }
  add(h.used_bits);
  add(h.stuck_bits);
  add(h.broken_frame.value_or(-1));
  return text + (h.silent ? "silent" : "sounds");
}

// A channel is looked at for another one as long as both get the same bits: from wherever they part, each
// reads what it reads alone.
TEST(HealthMeter, AChannelReadsWhatItReadsAlone) {
  std::vector<double> x;
  for (std::uint64_t n = 0; n < 90000; ++n) {
    const double phase = 2 * std::numbers::pi * 440 * static_cast<double>(n) / 48000 + (n < 20000 ? 0 : 1.5);
    x.push_back(std::clamp(0.6 * std::sin(phase) + 1e-3 * gaussian(3, n), -0.5, 0.5));  // crests, and a jump
  }
  for (double& v : x) v = std::round(v * 32768) / 32768;
  std::fill(x.begin() + 30000, x.begin() + 30300, 0.0);                // a dropout
  std::copy(x.begin() + 49000, x.begin() + 50000, x.begin() + 50000);  // a block twice
  const auto measured = [](const std::vector<std::vector<double>>& channels, std::size_t block) {
    HealthMeter meter(static_cast<int>(channels.size()), 48000, SampleFormat::float32);
    const std::size_t frames = channels[0].size();
    for (std::size_t n = 0; n < frames; n += block) {
      std::vector<double> planar;
      for (const auto& channel : channels)
        planar.insert(planar.end(), channel.begin() + static_cast<std::ptrdiff_t>(n),
                      channel.begin() + static_cast<std::ptrdiff_t>(std::min(frames, n + block)));
      meter.push(planar);
    }
    return meter.finish();
  };
  const auto first = measured({x}, 4096)[0];
  EXPECT_GT(first.clipped_frames, 0);
  EXPECT_GT(first.jump_count, 0);
  EXPECT_EQ(first.dropout_count, 1);
  EXPECT_EQ(first.repeat_count, 1);
  for (const std::size_t from : {0U, 1U, 20001U, 30100U, 50300U, 70001U, 89999U, 90000U}) {
    std::vector<double> y = x, minus = x, broken = x;
    for (std::size_t n = from; n < y.size(); ++n) y[n] *= 0.5;
    for (std::size_t n = from; n < minus.size(); ++n) minus[n] = minus[n] == 0 ? -0.0 : minus[n];
    if (from < broken.size()) broken[from] = std::nan("");
    for (const std::size_t block : {777U, 4096U}) {
      const auto both = measured({x, y, x, minus, broken}, block);
      for (std::size_t c = 0; c < both.size(); ++c) {
        const auto& alone = c == 1 ? y : c == 3 ? minus : c == 4 ? broken : x;
        EXPECT_EQ(text_of(both[c]), text_of(measured({alone}, block)[0])) << from << " " << c << " " << block;
      }
      const bool parted = from < x.size();
      EXPECT_EQ(both[1].same_as_first, !parted) << from;
      EXPECT_TRUE(both[2].same_as_first) << from;
      EXPECT_TRUE(both[3].same_as_first) << from;
      EXPECT_EQ(both[4].same_as_first, !parted) << from;
      EXPECT_FALSE(both[2].inverse_of_first) << from;
    }
  }
  const std::vector<double> silence(5000, 0.0);
  for (const ChannelHealth& h : measured({silence, silence}, 777)) {
    EXPECT_TRUE(h.silent && h.same_as_first);
    EXPECT_FALSE(h.inverse_of_first);
  }
  std::vector<double> spoilt = silence;
  spoilt[100] = std::nan("");
  EXPECT_FALSE(measured({spoilt, spoilt}, 777)[1].same_as_first)
      << "what is no number is the same as nothing";
  std::vector<double> late = silence, turned = silence;
  late[3000] = 0.5;
  turned[3000] = -0.5;
  const auto inverse = measured({late, turned}, 777);
  EXPECT_TRUE(inverse[1].inverse_of_first);
  EXPECT_FALSE(inverse[1].same_as_first);
}

// Of a high tone a clipped crest holds one or two samples: no run, but the same level again and again.
TEST(Health, AClippedHighToneIsFoundWithoutRuns) {
  const auto clipped = [](double rate, const std::function<double(std::int64_t)>& x, double at,
                          SampleFormat format) {
    Audio audio(rate, 1, static_cast<std::int64_t>(0.4 * rate));
    for (std::int64_t n = 0; n < audio.frames(); ++n)
      audio.channel(0)[static_cast<std::size_t>(n)] = std::clamp(x(n), -at, at);
    HealthOptions options;
    options.format = format;
    if (format == SampleFormat::pcm16)
      for (double& v : audio.channel(0)) v = std::round(v * 32768) / 32768;
    return check_health(audio, nullptr, options).channels[0].clipped_frames;
  };
  const auto tone = [](double hz, double rate) {
    return [hz, rate](std::int64_t n) {
      return 0.6 * exact_sine(hz, rate, n) + 1e-5 * random_uniform(1, 0, static_cast<std::uint64_t>(n));
    };
  };
  for (const SampleFormat format : {SampleFormat::float32, SampleFormat::pcm16}) {
    EXPECT_GT(clipped(44100, tone(5132.1, 44100), 0.5, format), 100);
    EXPECT_GT(clipped(48000, tone(15013, 48000), 0.57, format), 100);
    // What is not clipped: tones, among them those that repeat themselves bit for bit, and two-valued noise.
    for (const double hz : {997.0, 5132.1, 6000.0, 12000.0, 15000.0, 15013.0, 19997.0}) {
      EXPECT_EQ(clipped(48000, tone(hz, 48000), 1, format), 0) << hz;
      EXPECT_EQ(clipped(
                    48000, [&](std::int64_t n) { return 0.6 * exact_sine(hz, 48000, n); }, 1, format),
                0)
          << hz;
      EXPECT_EQ(clipped(
                    48000, [&](std::int64_t n) { return 0.001 * exact_sine(hz, 48000, n); }, 1, format),
                0)
          << hz;
    }
    EXPECT_EQ(clipped(
                  48000,
                  [](std::int64_t n) {
                    return (n % 2 == 0 ? 0.5 : 0.4) *
                           (random_uniform(3, 0, static_cast<std::uint64_t>(n)) < 0.5 ? -1 : 1);
                  },
                  1, format),
              0);
  }
}

}  // namespace
}  // namespace wavicon::health_test
