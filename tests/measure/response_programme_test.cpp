// SPDX-License-Identifier: MIT
// Responses from noise that repeats and from programme, and the filter that follows from two of them.

#include "measure/judged.hpp"
#include "measure/responses.hpp"
#include "wavicon/audio/filtered.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/measure/response/response.hpp"

namespace wavicon::response_programme_test {
namespace {

using namespace testing;

constexpr double kPeriodS = 1.4;
constexpr double kPeriodDb = 0.001;  // of two periods of noise, nothing else
constexpr double kPeriodDeg = 0.01;
constexpr double kMusicDb = 0.03;   // RMS, of 20 s of programme where the coherence is above 0.999
constexpr double kMatchedDb = -70;  // of two units whose responses are known from a test signal

// Periods of pink noise with silence on both sides.
Signal periods_of_pink(double rate, double seconds, std::int64_t seed = 1) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false, .silence_before_s = 0.2, .silence_after_s = 0.6};
  recipe.parts.push_back(
      {.kind = Noise{.colour = "pink", .period_s = kPeriodS, .seconds = seconds, .seed = seed}});
  Stimulus stimulus(recipe);
  return rendered(stimulus);
}

ResponseOptions period_options(double rate, double seconds, double delay = 0) {
  ResponseOptions options{.from_s = 0.2,
                          .to_s = 0.2 + seconds,
                          .period_frames = noise_period_frames(Noise{.period_s = kPeriodS}, rate)};
  options.alignment = Alignment{};
  options.alignment->delay_frames = delay;
  return options;
}

TEST(Response, PeriodsOfNoiseAreAsExactAsASweep) {
  for (const double rate : {44100.0, 48000.0, 96000.0, 192000.0})
    for (const double late : {0.0, 37.4}) {
      const std::vector<Section> filter = {bell(300, -9, 0.7, rate), bell(8000, 4, 1, rate),
                                           low_cut(80, 0.7071, rate)};
      const Signal x = periods_of_pink(rate, 5), y = moved(through(x, filter), late);
      const auto result = response_of(x, y, rate, period_options(rate, 5, late));
      const ChannelResponse& channel = result.channels[0];
      ASSERT_TRUE(channel.measured);
      EXPECT_EQ(channel.windows, 2);
      EXPECT_NEAR(channel.delay_samples, late, 1e-6);
      EXPECT_LT(channel.left_out_share, 0.005);
      for (const ResponsePoint& p : channel.points) {
        if (p.hz < 40 || p.hz > 19000) continue;
        const auto truth = of(filter, p.hz, rate);
        EXPECT_NEAR(db_from_ratio(std::abs(p.ratio) / std::abs(truth)), 0, kPeriodDb)
            << p.hz << " at " << rate;
        EXPECT_NEAR(std::arg(p.ratio / truth) * 180 / M_PI, 0, kPeriodDeg) << p.hz << " at " << rate;
      }
      EXPECT_EQ(channel.impulse.empty(), false);
    }
}

TEST(Response, NoiseUnderThePeriodsIsToldByTheirDifferences) {
  const double rate = 48000;
  const Signal x = periods_of_pink(rate, 7);
  for (const double noise_db : {-60.0, -40.0, -6.0}) {
    const Signal y = added(filtered(x, bell(1000, 6, 1, rate)), noise(x.size(), -20 + noise_db, 5));
    const auto result = response_of(x, y, rate, period_options(rate, 7));
    double squares = 0, coherence = 1;
    int count = 0;
    for (const ResponsePoint& p : result.channels[0].points) {
      if (p.hz < 300 || p.hz > 3000) continue;
      const double error = db_from_ratio(std::abs(p.ratio) / std::abs(bell(1000, 6, 1, rate).at(p.hz, rate)));
      squares += error * error;
      coherence = std::min(coherence, p.coherence);
      ++count;
    }
    // White noise under pink in 1/48 octave, over four periods: about noise - 10 dB around 1 kHz.
    const double expected_db = 8.7 * ratio_from_db(noise_db - 10) / std::sqrt(4.0);
    EXPECT_LT(std::sqrt(squares / count), 2 * expected_db) << noise_db;
    if (noise_db < -30)
      EXPECT_GT(coherence, 0.99);
    else
      EXPECT_LT(coherence, 0.95);
  }
}

TEST(Response, ShortPeriodsReadTheSame) {
  const double rate = 48000;
  const Noise pink{.colour = "pink", .from_hz = 100, .period_s = 0.05, .seconds = 1};
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back({.kind = pink});
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus);
  ResponseOptions options{.alignment = Alignment{}, .period_frames = noise_period_frames(pink, rate)};
  const auto result = response_of(x, filtered(x, bell(3000, 6, 2, rate)), rate, options);
  EXPECT_NEAR(result.channels[0].delay_samples, 0, 1e-9);
  for (const ResponsePoint& p : result.channels[0].points)
    if (p.hz > 1000 && p.hz < 15000) {
      EXPECT_NEAR(db_from_ratio(std::abs(p.ratio / bell(3000, 6, 2, rate).at(p.hz, rate))), 0, 0.02) << p.hz;
    }
}

TEST(Response, PeriodsNeedTwoOfThem) {
  const Signal x = periods_of_pink(48000, 2);
  EXPECT_HAS(
      message_of(ErrorCode::bad_argument, [&] { (void)response_of(x, x, 48000, period_options(48000, 2)); }),
      "play it longer");
  const auto one =
      response_of(periods_of_pink(48000, 3), periods_of_pink(48000, 3), 48000, period_options(48000, 3));
  const Sheet sheet = response_sheet(one, {}, {.channels = 1});
  EXPECT_TRUE(std::any_of(sheet.findings.begin(), sheet.findings.end(), [](const Finding& f) {
    return f.severity == Severity::warning && f.text.find("one period") != std::string::npos;
  }));
}

TEST(Response, TheFilterFromOneUnitToAnotherMakesTheirProgrammeNull) {
  const double rate = 48000;
  const std::vector<Section> one = {bell(3000, 6, 2, rate), low_cut(60, 0.7, rate)},
                             other = {bell(400, -5, 1, rate), bell(9000, 3, 0.8, rate)};
  const Signal& music = programme("chamber", rate, 12);
  const Signal swept = sweep(rate), pink = periods_of_pink(rate, 5);
  for (const bool by_sweep : {true, false}) {
    const Signal& x = by_sweep ? swept : pink;
    const auto result = [&](const std::vector<Section>& unit, double late) {
      return response_of(x, scaled(moved(through(x, unit), late), late > 0 ? -0.7 : 1), rate,
                         by_sweep ? sweep_options(late) : period_options(rate, 5, late));
    };
    const auto filters = matching_filters(result(one, 0), result(other, 40.4));
    ASSERT_EQ(filters.size(), 1U);
    const Audio a = audio_of(through(music, one), rate),
                b = audio_of(scaled(through(music, other), -0.7), rate);
    MemorySource from(a), against(b);
    FilteredSource matched(from, filters);
    const auto null = measure_null(taken(matched), taken(against),
                                   {.delay_samples = 0,
                                    .drift_ppm = 0,
                                    .gain_db = 0,
                                    .polarity = 1,
                                    .band_from_hz = 40,
                                    .band_to_hz = 20000});
    EXPECT_LT(db_from_ratio(null.channels[0].depth), kMatchedDb) << by_sweep;
    // Without it they are far from the same.
    const auto plain = measure_null(taken(from), taken(against));
    EXPECT_GT(db_from_ratio(plain.channels[0].depth), -15);
  }
}

TEST(Response, AFilterTakesAWholeResponseOverTime) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  const auto good = response_of(x, x, rate, sweep_options()), averaged = response_of(x, x, rate);
  const auto problem = [&](const ResponseResult& first, const ResponseResult& second, double seconds = 0.5) {
    return message_of(ErrorCode::bad_argument, [&] { (void)matching_filters(first, second, seconds); });
  };
  EXPECT_HAS(problem(good, averaged), "measure a sweep");
  EXPECT_HAS(problem(good, good, 9), "not within");
  Signal clipped = x;
  for (double& v : clipped) v = std::clamp(v, -0.1, 0.1);
  EXPECT_HAS(problem(response_of(x, clipped, rate, sweep_options()), good), "clips");
  ResponseResult wider = good;
  wider.channels.push_back(wider.channels[0]);
  EXPECT_HAS(problem(wider, good), "number of channels");
  // From a unit to itself: one tap in the middle, and nothing else.
  const auto none = matching_filters(good, good)[0];
  for (std::size_t i = 0; i < none.size(); ++i) ASSERT_NEAR(none[i], i == none.size() / 2 ? 1 : 0, 1e-6) << i;
}

TEST(Response, MusicAndSpeechGiveTheCurveWhereTheyHoldAnything) {
  const double rate = 48000;
  const std::vector<Section> filter = {bell(3000, 6, 2, rate), low_cut(80, 0.7071, rate)};
  for (const auto& [content, late] :
       {std::pair{"voice", 0.0}, {"voice", 100.3}, {"chamber", 0.0}, {"chamber", 100.3}}) {
    const Signal& x = programme(content, rate, 20);
    const auto result =
        response_of(x, added(moved(through(x, filter), late), noise(x.size(), -110, 4)), rate);
    const ChannelResponse& channel = result.channels[0];
    double squares = 0, worst = 0;
    int count = 0;
    for (const ResponsePoint& p : channel.points) {
      if (p.hz < 80 || p.hz > 16000 || p.coherence < 0.999) continue;
      const double error = db_from_ratio(std::abs(p.ratio) / std::abs(of(filter, p.hz, rate)));
      squares += error * error;
      worst = std::max(worst, std::abs(error));
      ++count;
    }
    EXPECT_GT(count, 200) << content << late << " " << result.alignment.delay_frames << " "
                          << result.alignment.drift_ppm;
    EXPECT_LT(std::sqrt(squares / count), kMusicDb) << content << " " << late;
    EXPECT_LT(worst, 10 * kMusicDb) << content << " " << late;
  }
}

TEST(Response, PeriodsAtTheEdges) {
  // 768 kHz, many channels, one of them silent, one inverted.
  const double rate = 768000;
  const Signal x = periods_of_pink(rate, 4.2);
  Audio a = audio_of(x, rate), b(rate, 8, static_cast<std::int64_t>(x.size()));
  for (int c = 0; c < 8; ++c)
    for (std::size_t n = 0; n < x.size(); ++n)
      b.channel(c)[n] = c == 3 ? 0 : (c == 5 ? -1 : 1) * ratio_from_db(-c) * x[n];
  MemorySource from(a), against(b);
  const auto result = measure_response(taken(from), taken(against), period_options(rate, 4.2));
  ASSERT_EQ(result.channels.size(), 8U);
  for (std::size_t c = 0; c < 8; ++c) {
    EXPECT_EQ(result.channels[c].measured, c != 3) << c;
    if (c == 3) continue;
    EXPECT_NEAR(result.channels[c].gain_db, -static_cast<double>(c), kPeriodDb);
    EXPECT_NEAR(result.channels[c].broadband_db, -static_cast<double>(c), kPeriodDb);
  }
  // NaN is named, not measured.
  b.channel(2)[x.size() / 2] = NAN;
  MemorySource broken(b);
  EXPECT_HAS(
      message_of(ErrorCode::bad_input,
                 [&] { (void)measure_response(taken(from), taken(broken), period_options(rate, 4.2)); }),
      "NaN or infinity");
}

}  // namespace
}  // namespace wavicon::response_programme_test
