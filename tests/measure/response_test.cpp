// SPDX-License-Identifier: MIT
#include "wavicon/measure/response/response.hpp"

#include "measure/judged.hpp"
#include "measure/responses.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::response_test {
namespace {

using namespace testing;

constexpr double kLevelDb = 0.001;  // of a 5 s sweep
constexpr double kPhaseDeg = 0.01;
constexpr double kNoiseDb = 0.15;  // of 8 s of noise, 1/48 octave

TEST(Response, OfKnownFiltersIsExactOverASweep) {
  for (const double rate : {48000.0, 96000.0})
    for (const auto& filter :
         {std::vector{bell(3000, 6, 2, rate)}, std::vector{bell(300, -9, 0.7, rate), bell(8000, 4, 1, rate)},
          std::vector{low_cut(80, 0.7071, rate)}}) {
      const Signal x = sweep(rate);
      const auto result = response_of(x, through(x, filter), rate, sweep_options());
      ASSERT_TRUE(result.channels[0].measured);
      int compared = 0;
      for (const ResponsePoint& p : result.channels[0].points) {
        if (p.hz < 40 || p.hz > 19000) continue;
        const auto truth = of(filter, p.hz, rate);
        EXPECT_NEAR(db_from_ratio(std::abs(p.ratio) / std::abs(truth)), 0, kLevelDb) << p.hz;
        EXPECT_NEAR(std::arg(p.ratio / truth) * 180 / M_PI, 0, kPhaseDeg) << p.hz;
        ++compared;
      }
      EXPECT_GT(compared, 400);
    }
}

TEST(Response, DelayAndGroupDelayAreToldApart) {
  const Signal x = sweep(48000);
  for (const double late : {0.0, 261.4, 37.0}) {
    const auto result = response_of(x, scaled(moved(x, late), -0.5), 48000, sweep_options(late));
    EXPECT_NEAR(result.channels[0].delay_samples, late, 1e-6);
    for (const ResponsePoint& p : result.channels[0].points) {
      if (p.hz < 40 || p.hz > 19000) continue;
      EXPECT_NEAR(db_from_ratio(std::abs(p.ratio)), db_from_ratio(0.5), kLevelDb);
      EXPECT_NEAR(std::abs(std::arg(p.ratio)) * 180 / M_PI, 180, kPhaseDeg) << "inverted, and nothing else";
      EXPECT_NEAR(p.group_delay_s, 0, 1e-6);
    }
  }
  // An equaliser makes marks read a little early; the main tap knows better.
  const auto shifted = response_of(x, filtered(x, bell(3000, 6, 2, 48000)), 48000, sweep_options(-0.3));
  EXPECT_NEAR(shifted.channels[0].delay_samples, 0, 1e-9);
}

// A capture that ends early answers for what it holds.
TEST(Response, ACaptureThatIsCutReadsWhatItHolds) {
  const Signal x = noise(5 * 48000, -30, 8);
  Signal y = scaled(x, ratio_from_db(3));
  y.resize(2 * 48000);
  ResponseOptions options;
  options.alignment = Alignment{};
  const auto result = response_of(x, y, 48000, options);
  EXPECT_NEAR(result.channels[0].gain_db, 3, 0.01);
  EXPECT_NEAR(result.channels[0].broadband_db, 3, 0.01);
  EXPECT_NEAR(result.seconds, 2, 1e-3);
}

TEST(Response, EdgesSlopesAndOrdersOfCuts) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  const std::vector<std::vector<Section>> cuts = {{first_cut(100, rate)},
                                                  {low_cut(100, 0.70711, rate)},
                                                  {first_cut(100, rate), low_cut(100, 1, rate)},
                                                  {low_cut(100, 0.54120, rate), low_cut(100, 1.30656, rate)}};
  for (std::size_t i = 0; i < cuts.size(); ++i) {
    const auto result = response_of(x, through(x, cuts[i]), rate, sweep_options());
    const auto& lower = result.channels[0].lower;
    ASSERT_TRUE(lower) << i;
    EXPECT_NEAR(lower->hz, 100, 1) << i;
    EXPECT_EQ(lower->order, static_cast<int>(i) + 1) << lower->slope_db_per_octave;
    EXPECT_FALSE(result.channels[0].upper);
    const Sheet sheet = response_sheet(result, {}, {.channels = 1});
    EXPECT_NE(sheet.findings[0].text.find(std::to_string(i + 1) + (i == 0 ? " pole" : " poles")),
              std::string::npos)
        << sheet.findings[0].text;
    EXPECT_NEAR(*find_reading(sheet, "lower_edge_hz", 0)->value, 100, 1);
  }
}

// Sections of a Butterworth cut, low (high-pass) or high (its mirror image in z: low-pass).
std::vector<Section> butterworth(int order, double hz, double rate, bool low_pass) {
  std::vector<Section> sections;
  if (order % 2 == 1) sections.push_back(first_cut(hz, rate));
  for (int k = 0; k < order / 2; ++k)
    sections.push_back(
        low_cut(hz, 1 / (2 * std::cos(M_PI * (2 * k + (order % 2 == 1 ? 2 : 1)) / (2 * order))), rate));
  if (low_pass)
    for (Section& s : sections) {
      // The same poles; zeros at half the rate instead of 0, unity gain at 0 Hz.
      const bool first = s.b2 == 0;
      const double at_0 = (1 + s.a1 + s.a2) / (first ? 2 : 4);
      s.b0 = at_0;
      s.b1 = (first ? 1 : 2) * at_0;
      s.b2 = first ? 0 : at_0;
    }
  return sections;
}

TEST(Response, ButterworthAndLinkwitzRileyOrdersUpToEight) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  for (const bool low_pass : {false, true})
    for (int order = 1; order <= 8; ++order)
      for (const bool twice : {false, true}) {
        if (twice && order % 2 == 1) continue;  // Linkwitz-Riley: a Butterworth cut of half the order, twice
        const double corner = low_pass ? 1500 : 400;
        auto sections = butterworth(twice ? order / 2 : order, corner, rate, low_pass);
        if (twice) sections.insert(sections.end(), sections.begin(), sections.end() - 0);
        const auto result = response_of(x, through(x, sections), rate, sweep_options());
        const auto& edge = low_pass ? result.channels[0].upper : result.channels[0].lower;
        const std::string what = std::to_string(order) + (twice ? " Linkwitz-Riley" : " Butterworth") +
                                 (low_pass ? " high" : " low");
        ASSERT_TRUE(edge) << what;
        EXPECT_EQ(edge->order, order) << what << " " << edge->slope_db_per_octave;
        EXPECT_NEAR((twice ? edge->hz_at_6_db.value_or(0) : edge->hz) / corner, 1, 0.012) << what;
        EXPECT_FALSE(result.channels[0].shelf) << what;
      }
}

TEST(Response, CrossoversMeetWhereTheyAreMadeTo) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  for (const int order : {1, 2, 4}) {
    const bool twice = order > 1;
    std::vector<ResponseResult> ways;
    for (const bool low_pass : {true, false}) {
      auto sections = butterworth(twice ? order / 2 : order, 1000, rate, low_pass);
      if (twice) sections.insert(sections.end(), sections.begin(), sections.end() - 0);
      Signal y = through(x, sections);
      // Two poles of Linkwitz and Riley meet in opposite phase: one way is turned.
      ways.push_back(response_of(x, order == 2 && low_pass ? scaled(y, -1) : y, rate, sweep_options()));
    }
    const auto found = find_crossover(ways[0].channels[0], ways[1].channels[0], rate);
    ASSERT_TRUE(found) << order;
    EXPECT_NEAR(found->hz, 1000, 2) << order;
    EXPECT_NEAR(found->below_db, twice ? 6.02 : 3.01, 0.05) << order;
    EXPECT_NEAR(found->sum_db, 0, 0.1) << order;
    // Of one pole each the ways are a quarter of a turn apart; of the others, one inverted, they cancel.
    if (order == 1) {
      EXPECT_NEAR(found->inverted_db, 0, 0.1);
      EXPECT_GT(found->notch_db, -0.2);
    } else {
      EXPECT_LT(found->notch_db, -50) << order;
      EXPECT_TRUE(found->notch_inverted) << order;
      EXPECT_NEAR(found->notch_hz, 1000, 15) << order;
    }
  }
  EXPECT_FALSE(find_crossover(ChannelResponse{}, ChannelResponse{}, rate));
}

// One way late by two samples: turned by 15° where both are half as loud, they cancel no deeper than
// sin 7.5°.
TEST(Response, TheNotchOfACrossoverIsAsDeepAsItsWaysAllow) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  std::vector<ResponseResult> ways;
  for (const bool low_pass : {true, false}) {
    auto sections = butterworth(2, 1000, rate, low_pass);
    sections.insert(sections.end(), sections.begin(), sections.end() - 0);
    Signal y = through(x, sections);
    if (!low_pass) {
      y.insert(y.begin(), 2, 0.0);
      y.resize(x.size());
    }
    ways.push_back(response_of(x, y, rate, sweep_options()));
  }
  Sheet of, sheet;
  of.capture.file = "low.wav";
  add_crossover(ways[0], ways[1], of, sheet);
  const Reading* notch = find_reading(sheet, "notch_db", 0);
  ASSERT_NE(notch, nullptr);
  EXPECT_NEAR(*notch->value, 20 * std::log10(std::sin(M_PI * 7.5 / 180)), 0.15);
  EXPECT_FALSE(notch->bound);
  EXPECT_EQ(std::get<std::string>(*find_condition(*notch, "way")), "one inverted");
  EXPECT_NEAR(*find_reading(sheet, "crossover_sum_db", 0)->value, 20 * std::log10(std::cos(M_PI * 7.5 / 180)),
              0.02);
  EXPECT_NE(sheet.findings.at(0).text.find("inverted they cancel most at "), std::string::npos);
  EXPECT_EQ(sheet.curves.at(0).name, "sum as they are");
}

// A low-pass at 80 Hz takes the marks away, and most of the sweep: what is left of it tells where it is.
TEST(Response, ASweepThroughASteepLowPassIsFoundByItself) {
  const double rate = 48000;
  Signal x = sweep(rate);
  auto sections = butterworth(2, 80, rate, true);
  sections.insert(sections.end(), sections.begin(), sections.end() - 0);
  Signal y = through(x, sections);
  y.insert(y.begin(), 4321, 0.0);
  for (std::size_t n = 0; n < y.size(); ++n) y[n] += 1e-7 * gaussian(3, n);
  ResponseOptions options = sweep_options();
  options.alignment.reset();
  const auto result = response_of(x, y, rate, options);
  const ChannelResponse& c = result.channels[0];
  for (const ResponsePoint& p : c.points) {
    if (p.hz < 25 || p.hz > 400) continue;
    EXPECT_NEAR(db_from_ratio(std::abs(p.ratio)), db_from_ratio(std::abs(of(sections, p.hz, rate))),
                0.02 + p.uncertainty_db)
        << p.hz;
  }
  ASSERT_TRUE(c.upper);
  EXPECT_NEAR(c.upper->hz_at_6_db.value_or(0), 80, 0.8);
  EXPECT_EQ(c.upper->order, 4);
  // The crest of the filter itself comes 276 frames late.
  EXPECT_NEAR(c.delay_samples, 4321 + 276, 20);
}

// Tones at once before and behind the sweep, as loud as it: what the unit makes of them is taken off.
TEST(Response, WhatLiesBesideTheSweepIsTakenOff) {
  const double rate = 48000;
  Recipe recipe{.sample_rate_hz = rate, .marks = false, .silence_before_s = 0.2, .silence_after_s = 0.6};
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 440, .level_dbfs = -6, .seconds = 1}});
  recipe.parts.push_back({.kind = kSweep});
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 3000, .level_dbfs = -3, .seconds = 1}});
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus);
  ResponseOptions options = sweep_options();
  options.from_s = 1.2;
  options.to_s = 6.2;
  for (const auto& filter :
       {std::vector<Section>{}, std::vector{bell(3000, 6, 2, rate), low_cut(80, 0.7071, rate)}}) {
    const auto result = response_of(x, through(x, filter), rate, options);
    for (const ResponsePoint& p : result.channels[0].points)
      if (p.hz > 60 && p.hz < 20000) {
        const double expected = db_from_ratio(std::abs(of(filter, p.hz, rate)));
        EXPECT_NEAR(db_from_ratio(std::abs(p.ratio)), expected, 0.01) << p.hz;
      }
    if (filter.empty()) {
      EXPECT_NEAR(result.channels[0].broadband_db, 0, 0.01);
    }
  }
}

// Marks, or chance, put it somewhere: what lies there has to be an answer to the sweep.
TEST(Response, WhatIsNoAnswerToTheSweepIsRefused) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  ResponseOptions searched = sweep_options();
  searched.alignment.reset();
  Signal tone(x.size()), noise(x.size()), hits(x.size());
  for (std::size_t n = 0; n < x.size(); ++n) {
    tone[n] = 0.3 * std::sin(0.13 * static_cast<double>(n));
    noise[n] = 0.1 * gaussian(4, n);
    hits[n] = n % 20000 == 7000 ? 1 : 0;
  }
  const Signal other = sweep(rate, {.from_hz = 40, .to_hz = 18000, .seconds = 4, .level_dbfs = -12});
  for (const Signal* y : std::initializer_list<const Signal*>{&tone, &noise, &hits, &other})
    for (const ResponseOptions& options : {sweep_options(), searched})
      EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)response_of(x, *y, rate, options); }), "");
  // Under noise as loud as itself it is one.
  Signal hidden = x;
  for (std::size_t n = 0; n < x.size(); ++n) hidden[n] += 0.18 * gaussian(7, n);
  EXPECT_TRUE(response_of(x, hidden, rate, sweep_options()).channels[0].measured);
}

TEST(Response, BandsThatLieOverEachOtherAreNoCrossover) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  const auto low_cut_only =
                 response_of(x, through(x, butterworth(2, 100, rate, false)), rate, sweep_options()),
             high_cut_only =
                 response_of(x, through(x, butterworth(2, 8000, rate, true)), rate, sweep_options());
  Sheet of, sheet;
  add_crossover(low_cut_only, high_cut_only, of, sheet);
  EXPECT_TRUE(sheet.readings.empty() && sheet.findings.empty());
  const auto low_way = response_of(x, through(x, butterworth(2, 1000, rate, true)), rate, sweep_options()),
             high_way = response_of(x, through(x, butterworth(2, 1000, rate, false)), rate, sweep_options());
  add_crossover(low_way, high_way, of, sheet);
  EXPECT_NEAR(*find_reading(sheet, "crossover_hz", 0)->value, 1000, 3);
}

TEST(Response, ShelvesAreReadOnTheAxisThatTheyWereMadeOn) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  for (const auto& [hz, gain] : {std::pair{8000.0, -4.0}, {3000.0, 6.0}, {300.0, 9.0}}) {
    const double v = ratio_from_db(gain), h = std::tan(M_PI * hz / rate) * std::sqrt(v), n = 1 / (1 + h);
    const auto result =
        response_of(x, filtered(x, {(v + h) * n, (h - v) * n, 0, (h - 1) * n, 0}), rate, sweep_options());
    const auto& shelf = result.channels[0].shelf;
    ASSERT_TRUE(shelf) << hz;
    EXPECT_NEAR(shelf->hz / hz, 1, 0.01);
    // Seen from 1 kHz, more above 300 Hz is less below it.
    EXPECT_EQ(shelf->high, hz > 1000);
    EXPECT_NEAR(shelf->gain_db, hz > 1000 ? gain : -gain, 0.05);
    EXPECT_EQ(shelf->order, 1);
  }
}

TEST(Response, CrosstalkAndBalanceOfTwoChannels) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  const auto two = [&](const Signal& left, const Signal& right) {
    Audio audio(rate, 2, static_cast<std::int64_t>(left.size()));
    std::copy(left.begin(), left.end(), audio.channel(0).begin());
    std::copy(right.begin(), right.end(), audio.channel(1).begin());
    return audio;
  };
  const auto sheet_of = [&](const Audio& a, const Audio& b) {
    MemorySource from(a), against(b);
    return response_sheet(measure_response(taken(from), taken(against), sweep_options()), {},
                          {.channels = 2});
  };
  const Sheet crosstalk = sheet_of(two(x, Signal(x.size(), 0.0)), two(x, scaled(x, 0.001)));
  EXPECT_NEAR(*find_reading(crosstalk, "crosstalk_db", 1)->value, -60, 0.01);
  EXPECT_EQ(find_reading(crosstalk, "gain_db", 1), nullptr);
  const Sheet balance =
      sheet_of(two(x, x), two(x, scaled(filtered(x, bell(3000, 2, 1, rate)), ratio_from_db(-0.5))));
  EXPECT_NEAR(*find_reading(balance, "balance_max_db", {})->value, 1.5, 0.01);
  EXPECT_LT(*find_reading(balance, "balance_db", {})->value, 0.3);
}

// A channel that plays before and behind another one's sweep, as stimuli for interfaces do: what it plays
// itself is no crosstalk, and where there is none noise makes a bound.
TEST(Response, CrosstalkBetweenWhatTheChannelPlaysItself) {
  Recipe recipe = parse_recipe(R"(channels = 2
[[part]]
kind = "tone"
level_dbfs = -12
silence_after_s = 0.2
[[part]]
kind = "sweep"
name = "left"
seconds = 3
channels = [1]
silence_after_s = 0.2
[[part]]
kind = "tone"
level_dbfs = -6
)",
                               "both");
  auto stimulus = std::make_shared<Stimulus>(recipe);
  for (const double crosstalk_db : {-40.0, -75.0, -300.0}) {
    Audio b(48000, 2, stimulus->frames());
    std::vector<double> left(static_cast<std::size_t>(stimulus->frames())), right = left;
    stimulus->render(0, 0, left);
    stimulus->render(0, 1, right);
    const double share = ratio_from_db(crosstalk_db), noise = ratio_from_db(-110);
    for (std::size_t n = 0; n < left.size(); ++n) {
      b.channel(0)[n] = static_cast<float>(left[n] + noise * random_triangular(1, 0, n));
      b.channel(1)[n] = static_cast<float>(right[n] + share * left[n] + noise * random_triangular(1, 1, n));
    }
    const JudgedCapture capture = judge(b, SampleFormat::float64, {stimulus, std::nullopt});
    EXPECT_TRUE(std::none_of(capture.findings().begin(), capture.findings().end(),
                             [](const Finding& f) { return f.code == FindingCode::channels_swapped; }));
    MeasureRequest request{.selection = {.part = "left"}};
    request.reference = judge_stimulus(stimulus);
    const auto measurement = find_measurement(measurements(), "response")->make();
    const Sheet sheet = measured(*measurement, request, capture)[0];
    EXPECT_NEAR(*find_reading(sheet, "gain_db", 0)->value, 0, 0.01);
    for (const char* name : {"crosstalk_db", "crosstalk_max_db"}) {
      const Reading& reading = *find_reading(sheet, name, 1);
      if (crosstalk_db < -200) {
        EXPECT_TRUE(reading.bound) << name << " " << *reading.value;
        EXPECT_LT(*reading.value, -85);
      } else {
        ASSERT_TRUE(reading.uncertainty) << name << " " << crosstalk_db;
        EXPECT_NEAR(*reading.value, crosstalk_db, std::max(0.05, 2 * *reading.uncertainty)) << name;
      }
    }
  }
}

TEST(Response, BellsAreReadWithCentreGainAndQ) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  for (const auto& [hz, gain, q] : {std::tuple{1000.0, 6.0, 2.0}, {3000.0, -9.0, 1.0}, {440.0, 3.0, 4.0}}) {
    const auto result = response_of(x, scaled(filtered(x, bell(hz, gain, q, rate)), ratio_from_db(1.5)), rate,
                                    sweep_options());
    const auto& found = result.channels[0].bell;
    ASSERT_TRUE(found) << hz;
    EXPECT_NEAR(found->hz / hz, 1, 0.005);
    EXPECT_NEAR(found->gain_db, gain, 0.05);
    // Half of the gain in dB is passed where |(s² + s·a/q + 1)/(s² + s/(a·q) + 1)|² = a², which is a width of
    // 1/q.
    EXPECT_NEAR(found->q, q, 0.05 * q) << "the bilinear transform makes them a little narrower";
    const Sheet sheet = response_sheet(result, {}, {.channels = 1});
    EXPECT_NE(sheet.findings[0].text.find(gain > 0 ? "everything is lifted by about 1.5 dB" : "a dip of"),
              std::string::npos)
        << sheet.findings[0].text;
  }
  EXPECT_FALSE(response_of(x, x, rate, sweep_options()).channels[0].bell);
}

TEST(Response, NoiseGivesTheSameCurveWithItsCoherence) {
  const double rate = 48000;
  const Signal x = noise(static_cast<std::size_t>(8 * rate), -20, 9);
  const Section filter = bell(1000, 9, 1, rate);
  const Signal y = added(moved(filtered(x, filter), 50), noise(x.size(), -50, 10));
  const auto result = response_of(x, y, rate);
  for (const ResponsePoint& p : result.channels[0].points) {
    if (p.hz < 200 || p.hz > 15000) continue;
    EXPECT_NEAR(db_from_ratio(std::abs(p.ratio) / std::abs(filter.at(p.hz, rate))), 0, kNoiseDb) << p.hz;
    EXPECT_GT(p.coherence, 0.95);
  }
  // Drowned: places are left out, not made up.
  const auto drowned = response_of(x, added(scaled(x, 0.1), noise(x.size(), -40, 11)), rate);
  EXPECT_GT(drowned.channels[0].left_out_share, 0.1);
}

TEST(Response, ABandThatASilentInIsLeftOut) {
  const double rate = 48000;
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back({.kind = Noise{.colour = "white", .from_hz = 500, .to_hz = 5000, .seconds = 6}});
  Stimulus stimulus(recipe);
  const Signal x = rendered(stimulus);
  const auto result = response_of(x, added(x, noise(x.size(), -60, 3)), rate);
  for (const ResponsePoint& p : result.channels[0].points) {
    EXPECT_GT(p.hz, 400);
    EXPECT_LT(p.hz, 6000);
  }
  EXPECT_GT(result.channels[0].left_out_share, 0.4);
}

TEST(Response, SmoothingKeepsTheMeanAndTheSheetSaysIt) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  auto options = sweep_options();
  options.smoothing = 3;
  const auto result = response_of(x, filtered(x, bell(1000, 12, 20, rate)), rate, options);
  double highest = 0;
  for (const ResponsePoint& p : result.channels[0].points)
    highest = std::max(highest, db_from_ratio(std::abs(p.ratio)));
  EXPECT_LT(highest, 6) << "a narrow bell is spread over a third of an octave";
  EXPECT_GT(highest, 1);
  const Sheet sheet = response_sheet(result, {}, {.channels = 1});
  EXPECT_EQ(std::get<std::string>(*find_condition(*find_reading(sheet, "gain_db", 0), "smoothing")),
            "1/3 octave");
}

TEST(Response, WhatClipsOrIsCutOffIsLeftOutAndSaid) {
  const double rate = 48000;
  const Signal x = sweep(rate);
  // A bell of 12 dB drives the capture into its ceiling around 3 kHz.
  const Section filter = bell(3000, 12, 2, rate);
  const auto clipped = response_of(
      x, shaped(filtered(x, filter), [](double v, std::size_t) { return std::clamp(v, -0.5, 0.5); }), rate,
      sweep_options());
  ASSERT_FALSE(clipped.channels[0].clipped_hz.empty());
  for (const ResponsePoint& p : clipped.channels[0].points) {
    EXPECT_FALSE(p.hz > 2600 && p.hz < 3450) << p.hz;
    if (p.hz > 40 && p.hz < 15000) {
      EXPECT_NEAR(db_from_ratio(std::abs(p.ratio) / std::abs(filter.at(p.hz, rate))), 0, 0.3) << p.hz;
    }
  }
  EXPECT_NE(
      response_sheet(clipped, {}, {.channels = 1}).findings[1].text.find("it clips while the sweep passes"),
      std::string::npos);
  Signal cut = x;
  cut.resize(static_cast<std::size_t>(3.2 * rate));
  const auto shorter = response_of(x, cut, rate, sweep_options());
  ASSERT_TRUE(shorter.channels[0].cut_hz);
  const double at = 18 * std::pow(22000.0 / 18, 3.0 / 5);
  EXPECT_NEAR(*shorter.channels[0].cut_hz / at, 1 / 1.6, 0.01);
  EXPECT_LT(shorter.channels[0].points.back().hz, at);
  for (const ResponsePoint& p : shorter.channels[0].points) {
    if (p.hz > 40) {
      EXPECT_NEAR(db_from_ratio(std::abs(p.ratio)), 0, 0.1) << p.hz;
    }
  }
  // Where it ends on the flank of a dip there is no edge; where it has fallen steeply for long there is.
  const auto cut_off = [&](Signal y) {
    y.resize(cut.size());
    return response_of(x, y, rate, sweep_options()).channels[0];
  };
  EXPECT_FALSE(cut_off(through(x, {bell(1200, -12, 0.7, rate)})).upper);
  EXPECT_TRUE(
      response_of(x, through(x, {bell(1200, -12, 0.7, rate)}), rate, sweep_options()).channels[0].cut_hz ==
      std::nullopt);
  const auto steep = cut_off(through(x, butterworth(4, 200, rate, true))).upper;
  ASSERT_TRUE(steep);
  EXPECT_NEAR(steep->hz, 200, 2);
  EXPECT_TRUE(response_of(x, scaled(x, 2), rate, sweep_options()).channels[0].clipped_hz.empty());
  auto smooth = ResponseOptions{.smoothing = 48};
  const Signal few = noise(static_cast<std::size_t>(2 * rate), -20, 4);
  std::string text;
  for (const Finding& f : response_sheet(response_of(few, few, rate, smooth), {}, {.channels = 1}).findings)
    text += f.text;
  EXPECT_NE(text.find("narrower than"), std::string::npos) << text;
  EXPECT_NE(text.find("few to average over"), std::string::npos) << text;
}

TEST(Response, WhatIsKeptOfAFromOneBToTheNextChangesNothing) {
  const double rate = 48000;
  const Signal x = sweep(rate), y = filtered(x, bell(3000, 6, 2, rate));
  ResponseCache cache;
  auto options = sweep_options();
  options.cache = &cache;
  for (const Signal* b : {&x, &y, &x}) {
    const auto kept = response_of(x, *b, rate, options), fresh = response_of(x, *b, rate, sweep_options());
    EXPECT_EQ(kept.options.cache, nullptr);
    ASSERT_EQ(kept.channels[0].points.size(), fresh.channels[0].points.size());
    for (std::size_t i = 0; i < kept.channels[0].points.size(); ++i)
      EXPECT_EQ(kept.channels[0].points[i].ratio, fresh.channels[0].points[i].ratio);
  }
}

TEST(Response, BadInputIsAnswered) {
  const Signal x = noise(96000, -20, 1);
  auto refused = [&](ErrorCode code, const Signal& a, const Signal& b, const ResponseOptions& o = {}) {
    return message_of(code, [&] { (void)response_of(a, b, 48000, o); });
  };
  EXPECT_NE(refused(ErrorCode::bad_input, x, {}).find("0 frames"), std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_input, x, noise(96000, -20, 2)).find("too little in common"),
            std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_argument, x, x, {.smoothing = 0.5}).find("smoothing"), std::string::npos);
  EXPECT_NE(refused(ErrorCode::bad_argument, x, x, {.band_from_hz = 100, .band_to_hz = 50}).find("band"),
            std::string::npos);
  const Signal s = sweep(48000);
  EXPECT_NE(refused(ErrorCode::bad_input, s, Signal(s.size(), 0.0), sweep_options()).find("silent"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::response_test
