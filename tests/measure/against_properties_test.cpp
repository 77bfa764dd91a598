// SPDX-License-Identifier: MIT
// What holds of every measurement of one signal against another: a gain, a delay and a polarity are read as
// they were put in, turned round when the two are swapped, whatever the rate and the channel.

#include <functional>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/measure/latency/latency.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/measure/pair/pair.hpp"
#include "wavicon/measure/response/response.hpp"

namespace wavicon::against_properties_test {
namespace {

using namespace testing;

constexpr double kGainDb = 0.002;
constexpr double kDelaySamples = 0.01;

struct Case {
  double rate;
  double gain_db;
  double late;
  int polarity;
};

const std::vector<Case>& cases() {
  static const std::vector<Case> all = {
      {44100, -7.5, 0, 1}, {48000, 3, 480, -1}, {96000, -20, 1234.25, 1}, {88200, 0, 77.5, -1}};
  return all;
}

Signal put(const Signal& x, const Case& c) {
  return scaled(moved(x, c.late), c.polarity * ratio_from_db(c.gain_db));
}

std::string text_of(const Case& c) {
  return std::to_string(c.rate) + " Hz, " + std::to_string(c.gain_db) + " dB, " + std::to_string(c.late);
}

// The same signal on each channel, but for its level: 1 dB less from one to the next.
Audio stepped(const Signal& x, double rate, int channels) {
  Audio audio(rate, channels, static_cast<std::int64_t>(x.size()));
  for (int c = 0; c < channels; ++c)
    for (std::size_t n = 0; n < x.size(); ++n) audio.channel(c)[n] = ratio_from_db(-c) * x[n];
  return audio;
}

TEST(AgainstProperties, WhatWasPutInIsRead) {
  for (const Case& c : cases()) {
    const Signal& x = programme("chamber", c.rate, 3);
    const Audio a = audio_of(x, c.rate), b = audio_of(put(x, c), c.rate);
    MemorySource from(a), against(b);
    const auto null = measure_null(taken(from), taken(against));
    EXPECT_NEAR(null.alignment.delay_frames, c.late, kDelaySamples) << text_of(c);
    EXPECT_NEAR(db_from_ratio(null.channels[0].gain), c.gain_db, kGainDb) << text_of(c);
    EXPECT_EQ(null.channels[0].polarity, c.polarity) << text_of(c);
    EXPECT_LT(db_from_ratio(null.channels[0].depth + 1e-15), -100) << text_of(c);
    const auto latency = measure_latency(taken(from), taken(against));
    EXPECT_NEAR(latency.latency_samples, c.late, kDelaySamples) << text_of(c);
    EXPECT_EQ(latency.polarity, c.polarity) << text_of(c);
    const auto pair = measure_pair(taken(from), taken(against));
    EXPECT_NEAR(*pair.time_offset_samples, c.late, kDelaySamples) << text_of(c);
    EXPECT_EQ(pair.polarity, c.polarity) << text_of(c);
    const auto response = measure_response(taken(from), taken(against));
    EXPECT_NEAR(response.channels[0].gain_db, c.gain_db, 0.01) << text_of(c);
    EXPECT_NEAR(response.channels[0].delay_samples, c.late, kDelaySamples) << text_of(c);
  }
}

TEST(AgainstProperties, SwappedItTurnsRound) {
  const double rate = 48000;
  const Case c{rate, -6, 300, 1};
  const Signal& x = programme("voice", rate, 4);
  const Audio a = audio_of(x, rate), b = audio_of(put(x, c), rate);
  MemorySource p(a), q(b);
  const auto there = measure_null(taken(p), taken(q)), back = measure_null(taken(q), taken(p));
  EXPECT_NEAR(there.alignment.delay_frames, -back.alignment.delay_frames, kDelaySamples);
  EXPECT_NEAR(db_from_ratio(there.channels[0].gain), -db_from_ratio(back.channels[0].gain), kGainDb);
  EXPECT_NEAR(measure_latency(taken(p), taken(q)).latency_samples,
              -measure_latency(taken(q), taken(p)).latency_samples, kDelaySamples);
  const auto pair = measure_pair(taken(p), taken(q)), other = measure_pair(taken(q), taken(p));
  EXPECT_NEAR(db_from_ratio(pair.b_rms / pair.a_rms), -db_from_ratio(other.b_rms / other.a_rms), 1e-9);
  EXPECT_NEAR(pair.correlation, other.correlation, 1e-12);
  EXPECT_NEAR(measure_response(taken(p), taken(q)).channels[0].gain_db,
              -measure_response(taken(q), taken(p)).channels[0].gain_db, 0.01);
}

TEST(AgainstProperties, EachChannelIsReadByItself) {
  const double rate = 48000;
  const Signal& x = programme("chamber", rate, 3);
  for (const int channels : {8}) {
    const Audio a = audio_of(x, rate), b = stepped(moved(x, 50), rate, channels);
    MemorySource from(a), against(b);
    const auto null = measure_null(taken(from), taken(against));
    const auto response = measure_response(taken(from), taken(against));
    ASSERT_EQ(null.channels.size(), static_cast<std::size_t>(channels));
    ASSERT_EQ(response.channels.size(), static_cast<std::size_t>(channels));
    for (int c = 0; c < channels; ++c) {
      const auto index = static_cast<std::size_t>(c);
      EXPECT_NEAR(db_from_ratio(null.channels[index].gain), -c, kGainDb) << c;
      EXPECT_NEAR(response.channels[index].gain_db, -c, 0.01) << c;
      EXPECT_NEAR(measure_latency(taken(from), taken(against), {.b_channel = c}).latency_samples, 50,
                  kDelaySamples);
    }
  }
}

TEST(AgainstProperties, SenselessInputIsAnswered) {
  const double rate = 48000;
  const Signal good = noise(48000, -20, 1);
  Signal broken = good;
  broken[1000] = NAN;
  const std::vector<Signal> senseless = {
      {}, {0.5}, Signal(48000, 0.0), Signal(48000, 1.0), broken, noise(48000, -20, 2)};
  const std::vector<std::pair<std::string, std::function<void(AudioSource&, AudioSource&)>>> measurements = {
      {"null", [](AudioSource& a, AudioSource& b) { (void)measure_null(taken(a), taken(b)); }},
      {"latency", [](AudioSource& a, AudioSource& b) { (void)measure_latency(taken(a), taken(b)); }},
      {"response", [](AudioSource& a, AudioSource& b) { (void)measure_response(taken(a), taken(b)); }}};
  for (std::size_t i = 0; i < senseless.size(); ++i)
    for (const auto& [name, measure] : measurements)
      for (const bool turned : {false, true}) {
        const Audio a = audio_of(good, rate), b = audio_of(senseless[i], rate);
        MemorySource p(a), q(b);
        const std::string text = message_of(
            ErrorCode::bad_input, [&, &measure = measure] { turned ? measure(q, p) : measure(p, q); });
        EXPECT_GT(text.size(), 15U) << name << " " << i << (turned ? " turned" : "");
      }
}

}  // namespace
}  // namespace wavicon::against_properties_test
