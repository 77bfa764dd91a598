// SPDX-License-Identifier: MIT
#include "wavicon/stimulus/stimulus.hpp"

#include <complex>

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::stimulus_test {
namespace {

using testing::exact_sine;

constexpr double kRates[] = {8000, 44100, 48000, 96000, 192000, 768000};

Recipe recipe_of(PartKind kind, double rate = 48000, int channels = 1) {
  Recipe recipe{.sample_rate_hz = rate, .channel_count = channels, .marks = false};
  recipe.parts.push_back({.kind = std::move(kind)});
  return recipe;
}

std::vector<double> rendered(const Recipe& recipe, int channel = 0) {
  Stimulus stimulus(recipe);
  std::vector<double> x(static_cast<std::size_t>(stimulus.frames()));
  stimulus.render(0, channel, x);
  return x;
}

double rms(std::span<const double> x) {
  double sum = 0;
  for (const double v : x) sum += v * v;
  return std::sqrt(sum / static_cast<double>(x.size()));
}

// Mean square per band from a long windowed transform.
std::vector<double> band_powers(const std::vector<double>& x, double rate,
                                const std::vector<double>& edges_hz) {
  const auto window = kaiser_window(x.size(), 8);
  RealTransform transform(fast_transform_length(x.size()));
  std::fill(transform.input().begin(), transform.input().end(), 0.0);
  for (std::size_t n = 0; n < x.size(); ++n) transform.input()[n] = window[n] * x[n];
  transform.execute();
  std::vector<double> powers(edges_hz.size() - 1, 0.0);
  for (std::size_t b = 0; b < transform.bins().size(); ++b) {
    const double hz = static_cast<double>(b) * rate / static_cast<double>(transform.length());
    for (std::size_t i = 0; i + 1 < edges_hz.size(); ++i)
      if (hz >= edges_hz[i] && hz < edges_hz[i + 1]) powers[i] += std::norm(transform.bins()[b]);
  }
  return powers;
}

TEST(Stimulus, EveryKindGivesTheSameBitsForAnyBlocks) {
  for (const std::string& name : kind_names()) {
    Recipe recipe = recipe_of(*kind_from_name(name), 48000, 2);
    recipe.marks = true;
    recipe.pad_db = -2;
    if (auto* p = std::get_if<Multitone>(&recipe.parts[0].kind))
      p->oscillators = {{.frequency_hz = 100, .to_hz = 9000, .to_dbfs = -40}};
    if (auto* p = std::get_if<Sweep>(&recipe.parts[0].kind)) p->seconds = 1;
    if (auto* p = std::get_if<Noise>(&recipe.parts[0].kind))
      *p = {.colour = "pink", .seconds = 2, .independent = true};
    if (auto* p = std::get_if<Burst>(&recipe.parts[0].kind)) p->carrier = Noise{.octave_hz = 1000};
    const auto whole = rendered(recipe, 1);
    Stimulus stimulus(recipe);
    std::vector<double> pieces(whole.size());
    std::size_t at = 0;
    for (std::size_t block = 1; at < whole.size(); block = block * 3 % 10007) {
      const std::size_t count = std::min(block, whole.size() - at);
      stimulus.render(static_cast<std::int64_t>(at), 1, std::span(pieces).subspan(at, count));
      at += count;
    }
    EXPECT_EQ(pieces, whole) << name;
    EXPECT_NEAR(static_cast<double>(whole.size()) / 48000, stimulus_seconds(recipe), 0.01) << name;
  }
}

TEST(Stimulus, NoiseWithAPeriodHasExactlyTheAmplitudesOfItsColour) {
  for (const double rate : {44100.0, 48000.0, 192000.0})
    for (const char* colour : {"white", "pink"}) {
      const Noise noise{.colour = colour, .from_hz = 20, .to_hz = 20000, .period_s = 0.3, .seconds = 1.5};
      const auto period = static_cast<std::size_t>(noise_period_frames(noise, rate));
      EXPECT_EQ(period & (period - 1), 0U);
      EXPECT_NEAR(std::log2(static_cast<double>(period) / (0.3 * rate)), 0, 0.5);
      const auto x = rendered(recipe_of(noise, rate));
      for (std::size_t n = period; n < x.size(); ++n) ASSERT_EQ(x[n], x[n - period]) << n;
      double squares = 0;
      for (std::size_t n = 0; n < period; ++n) squares += x[n] * x[n];
      EXPECT_NEAR(db_from_power_ratio(squares / static_cast<double>(period)), -20, 1e-9);
      RealTransform transform(period);
      std::copy_n(x.begin(), period, transform.input().begin());
      transform.execute();
      const double bin = rate / static_cast<double>(period);
      const auto size = [&](double hz) {
        const auto k = static_cast<std::size_t>(std::lround(hz / bin));
        return std::abs(transform.bins()[k]) *
               (colour == std::string("pink") ? std::sqrt(static_cast<double>(k)) : 1);
      };
      for (const double hz : {30.0, 100.0, 3170.0, 19000.0}) EXPECT_NEAR(size(hz) / size(997), 1, 1e-9) << hz;
      EXPECT_LT(size(21000) / size(997), 1e-9) << "outside of the band";
    }
}

TEST(Stimulus, NoiseWithAPeriodIsAnotherOnEachChannelWhenAsked) {
  Recipe recipe = recipe_of(Noise{.period_s = 0.1, .seconds = 0.5, .independent = true}, 48000, 2);
  const auto left = rendered(recipe, 0), right = rendered(recipe, 1);
  double both = 0, one = 0;
  for (std::size_t n = 0; n < left.size(); ++n) {
    both += left[n] * right[n];
    one += left[n] * left[n];
  }
  EXPECT_LT(std::abs(both / one), 0.1);
  std::get<Noise>(recipe.parts[0].kind).independent = false;
  EXPECT_EQ(rendered(recipe, 0), rendered(recipe, 1));
}

TEST(Stimulus, BandsThatHoldNothingAreRefused) {
  const auto problem = [](const Noise& noise) {
    return testing::message_of(ErrorCode::bad_argument, [&] { require_valid(recipe_of(noise, 48000)); });
  };
  EXPECT_HAS(problem({.colour = "pink", .to_hz = 5}), "pink noise starts at 10 Hz");
  EXPECT_HAS(problem({.from_hz = 100, .to_hz = 110, .period_s = 0.1}), "lines 11.7 Hz apart");
  EXPECT_HAS(problem({.octave_hz = 8, .period_s = 0.1}), "period_s");
  EXPECT_HAS(problem({.period_s = 30}), "period_s");
}

TEST(Stimulus, TonesAreExactAtEveryRate) {
  for (const double rate : kRates) {
    const auto x = rendered(recipe_of(Tone{.frequency_hz = 997.3, .level_dbfs = -6, .seconds = 0.2}, rate));
    for (std::size_t n = 0; n < x.size(); n += 7)
      ASSERT_NEAR(x[n], ratio_from_db(-6) * exact_sine(997.3, rate, static_cast<std::int64_t>(n)), 1e-14)
          << rate << " at " << n;
  }
}

TEST(Stimulus, AClippedToneStandsAtItsLevel) {
  const auto x = rendered(recipe_of(Tone{.frequency_hz = 100, .level_dbfs = -10, .clip_db = 6}));
  const double most = ratio_from_db(-10);
  for (std::size_t n = 0; n < x.size(); ++n)
    ASSERT_NEAR(
        x[n],
        std::clamp(ratio_from_db(-4) * exact_sine(100, 48000, static_cast<std::int64_t>(n)), -most, most),
        1e-14);
}

TEST(Stimulus, MultitoneSumsItsOscillators) {
  const Multitone p{
      .oscillators =
          {{.frequency_hz = 83, .level_dbfs = -20, .phase_deg = 90},
           {.frequency_hz = 500, .to_hz = 5000, .level_dbfs = -10, .to_dbfs = -30, .delay_s = 0.25}},
      .seconds = 1};
  const auto x = rendered(recipe_of(p));
  for (std::size_t n = 0; n < x.size(); n += 11) {
    const long double m = static_cast<long double>(n) - 12000, length = 36000;
    double expected = ratio_from_db(-20) * exact_sine(83, 48000, static_cast<std::int64_t>(n), 0.25);
    if (m >= 0) {
      const long double cycles = (500 * m + 4500 * m * m / (2 * length)) / 48000;
      expected += ratio_from_db(-10 - 20 * static_cast<double>(m / length)) *
                  std::sin(static_cast<double>(2 * M_PIl * (cycles - std::floor(cycles))));
    }
    ASSERT_NEAR(x[n], expected, 1e-11) << n;
  }
}

TEST(Stimulus, TwoTonesHaveTheirRatioAndPeak) {
  const auto x = rendered(
      recipe_of(TwoTone{.lower_hz = 60, .upper_hz = 7000, .ratio = 4, .level_dbfs = -10, .seconds = 1}));
  auto amplitude = [&](double hz) { return 2 * std::abs(tone_sum(x, phase_step(hz, 48000))) / 48000; };
  EXPECT_NEAR(amplitude(60) / amplitude(7000), 4, 1e-9);
  EXPECT_NEAR(amplitude(60) + amplitude(7000), ratio_from_db(-10), 1e-9);
}

TEST(Stimulus, SweepsFollowTheirPhaseLaw) {
  for (const Sweep& p : {Sweep{.from_hz = 20, .to_hz = 20000, .seconds = 2},
                         Sweep{.from_hz = 20000, .to_hz = 20, .seconds = 2},
                         Sweep{.from_hz = 100, .to_hz = 10000, .seconds = 1, .law = "linear"},
                         Sweep{.from_hz = 20, .to_hz = 20000, .seconds = 2, .synchronised = true},
                         Sweep{.from_hz = 50, .to_hz = 5000, .seconds = 1, .return_trip = true}}) {
    const double length = sweep_seconds(p), total = length * (p.return_trip ? 2 : 1);
    // The frequency is the slope of the phase: from_hz at the start, to_hz at the end of one way, from_hz
    // again after a return trip.
    const double dt = 1e-6;
    auto frequency = [&](double t) { return (sweep_cycles(p, t + dt) - sweep_cycles(p, t - dt)) / (2 * dt); };
    EXPECT_NEAR(frequency(2 * dt) / p.from_hz, 1, 1e-3);
    EXPECT_NEAR(frequency(length - 2 * dt) / p.to_hz, 1, 1e-3);
    if (p.return_trip) {
      EXPECT_NEAR(frequency(total - 2 * dt) / p.from_hz, 1, 1e-3);
    }
    const double middle = p.law == "log" ? std::sqrt(p.from_hz * p.to_hz) : (p.from_hz + p.to_hz) / 2;
    EXPECT_NEAR(frequency(length / 2) / middle, 1, 1e-4);
    const auto x = rendered(recipe_of(p));
    EXPECT_NEAR(static_cast<double>(x.size()) / 48000, total, 1.0 / 48000);
    const auto n = x.size() / 3;
    EXPECT_NEAR(x[n],
                ratio_from_db(p.level_dbfs) *
                    std::sin(2 * M_PI * std::fmod(sweep_cycles(p, static_cast<double>(n) / 48000), 1.0)),
                1e-9);
    if (p.synchronised) {
      const double cycles = p.from_hz * length / std::log(p.to_hz / p.from_hz);
      EXPECT_NEAR(cycles, std::round(cycles), 1e-9);
    }
  }
}

TEST(Stimulus, PinkNoiseFallsByThreeDecibelsPerOctave) {
  std::vector<double> edges;
  for (int octave = 0; octave <= 10; ++octave) edges.push_back(20 * std::pow(2, octave));
  std::vector<double> powers(edges.size() - 1, 0.0);
  for (std::int64_t seed = 1; seed <= 12; ++seed) {
    const auto x = rendered(recipe_of(Noise{.colour = "pink", .seconds = 40, .seed = seed}));
    const auto one = band_powers(x, 48000, edges);
    for (std::size_t i = 0; i < one.size(); ++i) powers[i] += one[i];
  }
  double mean = 0;
  for (const double p : powers) mean += db_from_power_ratio(p) / static_cast<double>(powers.size());
  for (std::size_t i = 0; i < powers.size(); ++i)
    EXPECT_NEAR(db_from_power_ratio(powers[i]) - mean, 0, 0.25) << "octave from " << edges[i];
}

TEST(Stimulus, NoiseHasItsLevelAndItsBand) {
  for (const double rate : {44100.0, 96000.0})
    for (const Noise& p :
         {Noise{.level_dbfs = -20}, Noise{.colour = "pink", .level_dbfs = -30},
          Noise{.from_hz = 1000, .to_hz = 2000, .level_dbfs = -12},
          Noise{.octave_hz = 500, .level_dbfs = -20}, Noise{.third_octave_hz = 1250, .level_dbfs = -20}}) {
      Noise shorter = p;
      shorter.seconds = 2;
      const auto x = rendered(recipe_of(shorter, rate));
      EXPECT_NEAR(db_from_ratio(rms(x)), p.level_dbfs, 1e-9);
      double low = p.from_hz, high = p.to_hz.value_or(rate / 2);
      if (p.octave_hz) low = 1000 * std::pow(10, -0.3 - 0.15), high = 1000 * std::pow(10, -0.3 + 0.15);
      if (p.third_octave_hz) low = 1000 * std::pow(10, 0.1 - 0.05), high = 1000 * std::pow(10, 0.1 + 0.05);
      if (p.colour == "pink") low = 10;
      const double smear = 8;  // Hz: blocks of 1.4 s and the test's own window
      const auto powers = band_powers(x, rate, {0, std::max(0.0, low - smear), high + smear, rate / 2 + 1});
      EXPECT_LT(powers[0] + powers[2], 1e-3 * powers[1]);
    }
  const auto x =
      rendered(recipe_of(Noise{.colour = "pink", .level_dbfs = -6, .level_as = "peak", .seconds = 1}));
  EXPECT_NEAR(peak(x), ratio_from_db(-6), 1e-12);
}

// Up to four million numbers are kept from finding levels, of all noise that is there at once.
TEST(Stimulus, NoiseThatIsKeptIsNoiseThatIsMadeAgain) {
  const Recipe recipe =
      recipe_of(Noise{.colour = "pink", .level_dbfs = -20, .seconds = 22, .fade_in_s = 0.1}, 96000);
  const auto kept = rendered(recipe);
  Stimulus takes_the_room(recipe);
  std::vector<double> some(100);
  takes_the_room.render(0, 0, some);
  EXPECT_TRUE(kept == rendered(recipe));
  EXPECT_TRUE(std::equal(some.begin(), some.end(), kept.begin()));
}

TEST(Stimulus, NoiseIsTheSameOrIndependentOnTwoChannels) {
  for (const char* colour : {"white", "pink"}) {
    Noise p{.colour = colour, .seconds = 20};
    if (p.colour == "pink") p.from_hz = 100;
    EXPECT_EQ(rendered(recipe_of(p, 48000, 2), 0), rendered(recipe_of(p, 48000, 2), 1));
    p.independent = true;
    const auto a = rendered(recipe_of(p, 48000, 2), 0), b = rendered(recipe_of(p, 48000, 2), 1);
    double cross = 0;
    for (std::size_t n = 0; n < a.size(); ++n) cross += a[n] * b[n];
    EXPECT_LT(std::abs(cross) / (rms(a) * rms(b) * static_cast<double>(a.size())), 0.02) << colour;
  }
  EXPECT_NE(rendered(recipe_of(Noise{.seconds = 0.1, .seed = 1})),
            rendered(recipe_of(Noise{.seconds = 0.1, .seed = 2})));
}

TEST(Stimulus, BurstsAreOnForTheirTimeAndSilentBetween) {
  const auto x =
      rendered(recipe_of(Burst{.carrier = Tone{.frequency_hz = 1000, .level_dbfs = 0, .phase_deg = 90},
                               .on_s = 0.01,
                               .gap = 3,
                               .count = 4}));
  ASSERT_EQ(x.size(), 4U * 1920);
  for (std::size_t n = 0; n < x.size(); ++n) {
    const std::size_t in = n % 1920;
    ASSERT_NEAR(x[n], in < 480 ? std::cos(2 * M_PI * static_cast<double>(in) / 48) : 0.0, 1e-12) << n;
  }
}

TEST(Stimulus, StaircasesStepThroughFrequenciesAndLevels) {
  const Staircase p{.frequencies_hz = {1000, 2000},
                    .levels_dbfs = {-40, -20},
                    .trims_db = {0, -3},
                    .step_s = 0.1,
                    .gap_s = 0.05,
                    .edge_s = 0.01};
  const auto x = rendered(recipe_of(p));
  const double expected[] = {-40, -20, -43, -23};
  for (std::size_t step = 0; step < 4; ++step) {
    const std::span<const double> middle(x.data() + step * 7200 + 960, 2880);
    EXPECT_NEAR(db_from_ratio(rms(middle)) + 3.0103, expected[step], 1e-3) << step;
    EXPECT_EQ(rms(std::span<const double>(x.data() + step * 7200 + 4800, 2400)), 0.0);
  }
}

TEST(Stimulus, StepsLieWhereTheyAreTold) {
  const Staircase p{.frequencies_hz = {1000},
                    .levels_dbfs = {-40, -20, -30},
                    .edge_s = 0,
                    .starts_s = {0.5, 0, 0.2},
                    .lengths_s = {0.1, 0.15, 0.25},
                    .phases_deg = {0, 90, 180}};
  const auto x = rendered(recipe_of(p));
  ASSERT_EQ(x.size(), 28800U);
  const auto steps = staircase_steps(p, 48000);
  ASSERT_EQ(steps.size(), 3U);
  const double cycles[] = {0, 0.25, 0.5};
  std::vector<double> expected(x.size(), 0.0);
  for (std::size_t i = 0; i < 3; ++i) {
    EXPECT_EQ(steps[i].first_frame, std::llround(p.starts_s[i] * 48000));
    EXPECT_EQ(steps[i].frames, std::llround(p.lengths_s[i] * 48000));
    for (std::int64_t n = 0; n < steps[i].frames; ++n)
      expected[static_cast<std::size_t>(steps[i].first_frame + n)] =
          ratio_from_db(p.levels_dbfs[i]) *
          std::sin(2 * M_PI * (1000 * static_cast<double>(n) / 48000 + cycles[i]));
  }
  for (std::size_t n = 0; n < x.size(); ++n) ASSERT_NEAR(x[n], expected[n], 1e-12) << n;
}

TEST(Stimulus, AnExactBlockStepsWhereverTheWaveIs) {
  const LevelBlock p{.frequency_hz = 997,
                     .low_dbfs = -40,
                     .high_dbfs = -10,
                     .low_s = 0.1003,
                     .high_s = 0.2001,
                     .after_s = 0.1,
                     .phase_deg = 90,
                     .exact = true};
  const auto x = rendered(recipe_of(p));
  for (std::size_t n = 0; n < x.size(); ++n) {
    const double t = static_cast<double>(n) / 48000, level = t >= 0.1003 && t < 0.3004 ? -10 : -40;
    ASSERT_NEAR(x[n], ratio_from_db(level) * std::cos(2 * M_PI * 997 * t), 1e-9) << n;
  }
}

TEST(Stimulus, BlocksStepAtZeroCrossings) {
  const LevelBlock p{
      .frequency_hz = 997, .low_dbfs = -40, .high_dbfs = -10, .low_s = 0.1, .high_s = 0.2, .after_s = 0.1};
  const auto x = rendered(recipe_of(p));
  const double up = 100.0 / 997 * 48000,
               down = up + 199.0 / 997 * 48000;  // whole cycles nearest to 0.1 and 0.2 s
  for (std::size_t n = 0; n < x.size(); ++n) {
    const double t = static_cast<double>(n), level = t >= up && t < down ? -10 : -40;
    ASSERT_NEAR(x[n], ratio_from_db(level) * exact_sine(997, 48000, static_cast<std::int64_t>(n)), 1e-12)
        << n;
  }
}

TEST(Stimulus, ImpulsesAndChannelNumbers) {
  const auto x = rendered(recipe_of(Impulse{.level_dbfs = -6, .negative = true, .seconds = 0.1}));
  EXPECT_EQ(x[0], -ratio_from_db(-6));
  EXPECT_EQ(peak(std::span(x).subspan(1)), 0.0);
  const Recipe three = recipe_of(ChannelNumbers{.beep_s = 0.1, .gap_s = 0.1}, 48000, 3);
  for (int c = 0; c < 3; ++c) {
    const auto y = rendered(three, c);
    int beeps = 0;
    for (std::size_t start = 0; start + 4800 <= y.size(); start += 4800)
      beeps += rms(std::span<const double>(y).subspan(start, 4800)) > 0.01;
    EXPECT_EQ(beeps, c + 1);
    for (int d = 0; d < c; ++d) {
      const auto z = rendered(three, d);
      for (std::size_t n = 0; n < y.size(); ++n) ASSERT_FALSE(y[n] != 0 && z[n] != 0);
    }
  }
}

TEST(Stimulus, PartsFollowOrLieOnTopOfEachOther) {
  Recipe recipe{.channel_count = 2, .pad_db = -6, .marks = false, .silence_before_s = 0.1};
  recipe.parts.push_back({.name = "first",
                          .kind = Tone{.frequency_hz = 1000, .seconds = 0.5},
                          .channels = {1},
                          .silence_after_s = 0.2});
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 3000, .seconds = 0.1},
                          .channels = {2},
                          .with_previous = true,
                          .silence_before_s = 0.1});
  recipe.parts.push_back({.kind = Impulse{.seconds = 0.1}});
  Stimulus stimulus(recipe);
  ASSERT_EQ(stimulus.parts().size(), 3U);
  EXPECT_EQ(stimulus.parts()[0].name, "first");
  EXPECT_EQ(stimulus.parts()[0].first_frame, 4800);
  EXPECT_EQ(stimulus.parts()[1].first_frame, 9600);
  EXPECT_EQ(stimulus.parts()[2].first_frame, 4800 + 24000 + 9600);
  EXPECT_EQ(stimulus.parts()[1].channels, std::vector<int>{1});
  const auto left = rendered(recipe, 0), right = rendered(recipe, 1);
  EXPECT_NEAR(left[38400], ratio_from_db(-12), 1e-12);
  EXPECT_NEAR(left[4801], ratio_from_db(-26) * exact_sine(1000, 48000, 1), 1e-12);
  EXPECT_EQ(right[5000], 0.0);
  EXPECT_NEAR(right[9601], ratio_from_db(-26) * exact_sine(3000, 48000, 1), 1e-12);
}

TEST(Stimulus, MarksAreChirpsForwardsAndBackwards) {
  for (const double rate : kRates) {
    Recipe recipe = recipe_of(Silence{.seconds = 0.5}, rate);
    recipe.marks = true;
    Stimulus stimulus(recipe);
    const auto x = rendered(recipe);
    const auto mark = mark_samples(rate);
    const auto& marks = *stimulus.marks();
    EXPECT_EQ(marks.start_frame, 0);
    EXPECT_EQ(marks.end_frame + marks.frames, stimulus.frames());
    for (std::size_t n = 0; n < mark.size(); ++n) {
      ASSERT_EQ(x[n], mark[n]);
      ASSERT_EQ(x[x.size() - 1 - n], mark[n]);
    }
    EXPECT_NEAR(db_from_ratio(peak(mark)), -20, 0.1);
  }
}

}  // namespace
}  // namespace wavicon::stimulus_test
