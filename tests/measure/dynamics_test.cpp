// SPDX-License-Identifier: MIT
// Compressors built sample by sample from the level that was played, so that their gain is known exactly.

#include "wavicon/measure/dynamics/dynamics.hpp"

#include <functional>

#include "measure/judged.hpp"
#include "measure/programme.hpp"

namespace wavicon::dynamics_test {
namespace {

using namespace testing;

constexpr double kThreshold = -20, kRatio = 4;

double static_gain(double db, double threshold = kThreshold, double ratio = kRatio, double knee = 0) {
  const double over = db - threshold;
  if (over <= -knee / 2) return 0;
  if (over >= knee / 2) return (1 / ratio - 1) * over;
  return (1 / ratio - 1) * (over + knee / 2) * (over + knee / 2) / (2 * knee);
}

// One way or the other of a gain that follows a level, frame by frame; constants in seconds.
struct Design {
  DetectorModel model;
  double attack_s, release_s;
  double second_s = 0.01;  // of the gain behind a mean square
};

Signal gains(const Signal& levels, double rate, const Design& d) {
  Signal out;
  const auto share = [&](double s) { return 1 - std::exp(-1 / (s * rate)); };
  double state = -1, gain = 0;
  for (const double level : levels) {
    const auto step = [&](double& from, double to, bool attack) {
      from += share(attack ? d.attack_s : d.release_s) * (to - from);
    };
    const double asked = static_gain(db_from_ratio(std::max(level, 1e-9)));
    switch (d.model) {
      case DetectorModel::gain_in_db:
        step(gain, asked, asked < gain);
        break;
      case DetectorModel::gain: {
        double factor = ratio_from_db(gain);
        step(factor, ratio_from_db(asked), asked < gain);
        gain = db_from_ratio(factor);
        break;
      }
      case DetectorModel::amplitude:
        if (state < 0) state = level;
        step(state, level, level > state);
        gain = static_gain(db_from_ratio(state));
        break;
      default: {
        if (state < 0) state = level * level;
        step(state, level * level, level * level > state);
        const double wanted = static_gain(db_from_power_ratio(std::max(state, 1e-18)));
        if (d.model == DetectorModel::mean_square)
          gain = wanted;
        else
          gain += share(d.second_s) * (wanted - gain);
      }
    }
    out.push_back(gain);
  }
  return out;
}

struct Played {
  Recipe recipe;
  Signal x;
  Signal levels;  // of the tone that is being played; 0 in silence
};

Played played(double hz, double low, double high, double rate, double high_s = 0.6, double after_s = 1.0,
              double before_s = 0.8,
              std::vector<double> steps = {-40, -30, -24, -21, -20, -19, -16, -12, -8, -3}) {
  Played p;
  p.recipe = {.sample_rate_hz = rate, .marks = false, .silence_before_s = 0.1, .silence_after_s = 0.1};
  p.recipe.parts.push_back(
      {.kind = Staircase{.frequencies_hz = {hz}, .levels_dbfs = std::move(steps), .step_s = 0.4}});
  p.recipe.parts.push_back({.kind = LevelBlock{.frequency_hz = hz,
                                               .low_dbfs = low,
                                               .high_dbfs = high,
                                               .low_s = 0.5,
                                               .high_s = high_s,
                                               .after_s = after_s},
                            .silence_before_s = before_s});
  Stimulus stimulus(p.recipe);
  p.x = rendered(stimulus);
  p.levels.assign(p.x.size(), 0);
  const auto& parts = stimulus.parts();
  const auto& staircase = std::get<Staircase>(p.recipe.parts[0].kind);
  for (const StaircaseStep& s : staircase_steps(staircase, rate))
    for (std::int64_t n = 0; n < s.frames; ++n)
      p.levels[static_cast<std::size_t>(parts[0].first_frame + s.first_frame + n)] =
          ratio_from_db(s.level_dbfs);
  const BlockSteps at = block_steps(std::get<LevelBlock>(p.recipe.parts[1].kind), rate);
  for (std::int64_t n = 0; n < at.frames; ++n) {
    const auto t = static_cast<double>(n);
    p.levels[static_cast<std::size_t>(parts[1].first_frame + n)] =
        ratio_from_db(t >= at.up_frame && t < at.down_frame ? high : low);
  }
  return p;
}

DynamicsResult measured(const Played& p, const Signal& y) {
  const double rate = p.recipe.sample_rate_hz;
  Stimulus stimulus(p.recipe);
  const Audio a = audio_of(p.x, rate), b = audio_of(y, rate);
  MemorySource from(a), against(b);
  return measure_dynamics(testing::played(from, stimulus, Take{}),
                          testing::played(against, stimulus, Take{}));
}

Signal with_gain(const Played& p, const Signal& gain_db) {
  Signal y = p.x;
  for (std::size_t n = 0; n < y.size(); ++n) y[n] *= ratio_from_db(gain_db[n]);
  return y;
}

// When the built gain had gone that share of its way, seconds after the step.
double true_time(const Signal& gain, std::size_t step, std::size_t end, double rate, double share) {
  const double start = gain[step - 2], change = gain[end - 2] - start;
  for (std::size_t n = step; n < end; ++n)
    if ((gain[n] - start) / change >= share) return static_cast<double>(n - step) / rate;
  return -1;
}

TEST(Dynamics, EveryDetectorIsToldAndTimedAtTwoStepSizes) {
  constexpr double kRate = 48000;
  for (const auto model : {DetectorModel::gain_in_db, DetectorModel::mean_square, DetectorModel::amplitude,
                           DetectorModel::gain, DetectorModel::mean_square_then_gain})
    for (const double attack_ms : {0.5, 2.0, 20.0, 80.0})
      for (const double high : {-14.0, -2.0}) {
        // Fast ones on a high tone, as the page of the measurement advises.
        const double hz = attack_ms < 5 ? 5003 : 997;
        const Played p = played(hz, -40, high, kRate, std::max(0.6, 0.01 * attack_ms));
        Design design{model, 0.001 * attack_ms, 0.08, 0.001 * attack_ms};
        const Signal gain = gains(p.levels, kRate, design);
        const auto result = measured(p, with_gain(p, gain));
        const std::string what =
            name_of(model) + " " + std::to_string(attack_ms) + " ms to " + std::to_string(high);
        ASSERT_EQ(result.channels[0].blocks.size(), 1U) << what;
        const BlockDynamics& block = result.channels[0].blocks[0];
        ASSERT_FALSE(block.attack.models.empty()) << what;
        const ModelFit& best = block.attack.models[0];
        EXPECT_EQ(hears_rms(best.model), hears_rms(model)) << what << ": " << name_of(best.model);
        const bool two = model == DetectorModel::mean_square_then_gain;
        if (attack_ms >= (two ? 20 : 2)) {
          EXPECT_EQ(best.model, model)
              << what << ": " << name_of(best.model) << " " << best.error_db << ", then "
              << name_of(block.attack.models[1].model) << " " << block.attack.models[1].error_db;
          EXPECT_NEAR(best.constant_s, design.attack_s, (two ? 0.08 : 0.05) * design.attack_s + 5e-5) << what;
        }
        Stimulus stimulus(p.recipe);
        const BlockSteps at = block_steps(std::get<LevelBlock>(p.recipe.parts[1].kind), kRate);
        const auto up = static_cast<std::size_t>(stimulus.parts()[1].first_frame) +
                        static_cast<std::size_t>(std::ceil(at.up_frame)),
                   down = static_cast<std::size_t>(stimulus.parts()[1].first_frame) +
                          static_cast<std::size_t>(at.down_frame);
        const double tolerance = hz > 4000 ? 5e-5 : 1.5e-4;
        EXPECT_NEAR(block.attack.to_63_s.value_or(9), true_time(gain, up, down, kRate, 0.632),
                    tolerance + 0.003e-3 * attack_ms)
            << what;
        EXPECT_NEAR(block.attack.to_90_s.value_or(9), true_time(gain, up, down, kRate, 0.9),
                    tolerance + 0.01e-3 * attack_ms)
            << what;
        const double release = true_time(gain, down + 1, gain.size() - 4800, kRate, 0.632);
        EXPECT_NEAR(block.release.to_63_s.value_or(9), release, 5e-4) << what;
      }
}

TEST(Dynamics, StaticCurveIsReadFromTheStaircase) {
  const Played p = played(997, -40, -10, 48000);
  const auto result =
      measured(p, with_gain(p, gains(p.levels, 48000, {DetectorModel::gain_in_db, 0.01, 0.1})));
  ASSERT_EQ(result.channels[0].staircases.size(), 1U);
  const auto& curve = result.channels[0].staircases[0].curve;
  ASSERT_TRUE(curve);
  EXPECT_EQ(curve->kind, StaticCurve::Kind::compressor);
  EXPECT_NEAR(curve->threshold_dbfs, kThreshold, 0.01);
  EXPECT_NEAR(*curve->ratio(), kRatio, 0.01);
  EXPECT_TRUE(curve->knee_undecided());
  for (const LevelStep& step : result.channels[0].staircases[0].steps) {
    EXPECT_NEAR(step.level.out_dbfs - step.level.in_dbfs, static_gain(step.level.in_dbfs), 0.002);
    EXPECT_LT(std::abs(step.wander_db), 0.01);
  }
}

TEST(Dynamics, TwoReleaseConstantsAndAHoldAreToldApartFromOne) {
  constexpr double kRate = 48000;
  const Played p = played(997, -40, -6, kRate, 0.6, 3.0);
  const BlockSteps at = block_steps(std::get<LevelBlock>(p.recipe.parts[1].kind), kRate);
  Stimulus stimulus(p.recipe);
  const auto down =
      static_cast<std::size_t>(static_cast<double>(stimulus.parts()[1].first_frame) + at.down_frame) + 1;
  const Signal plain = gains(p.levels, kRate, {DetectorModel::gain_in_db, 0.01, 0.1});
  for (const int which : {0, 1, 2}) {
    Signal gain = plain;
    for (std::size_t n = down; n < gain.size(); ++n) {
      const double t = static_cast<double>(n - down) / kRate, whole = plain[down - 2];
      if (which == 1) gain[n] = whole * (0.6 * std::exp(-t / 0.05) + 0.4 * std::exp(-t / 0.6));
      if (which == 2) gain[n] = whole * std::exp(-std::max(0.0, t - 0.03) / 0.1);
    }
    const auto result = measured(p, with_gain(p, gain));
    const ModelFit& best = result.channels[0].blocks[0].release.models[0];
    if (which == 1) {
      EXPECT_EQ(best.model, DetectorModel::two_constants);
      EXPECT_NEAR(best.constant_s, 0.05, 0.002);
      EXPECT_NEAR(best.second_s, 0.6, 0.03);
      EXPECT_NEAR(best.share, 0.4, 0.02);
    } else {
      EXPECT_EQ(best.model, DetectorModel::gain_in_db);
      EXPECT_NEAR(best.constant_s, 0.1, 0.003);
      EXPECT_NEAR(best.hold_s, which == 2 ? 0.03 : 0, 0.0015);
    }
    const Sheet sheet = dynamics_sheet(result, {"a.wav"}, {"b.wav"});
    EXPECT_EQ(find_reading(sheet, "release_slow_ms", 0) != nullptr, which == 1);
    EXPECT_EQ(find_reading(sheet, "hold_ms", 0) != nullptr, which == 2);
  }
}

// A fast and a slow part of an attack, with their shares; one constant and a mean square stay what they are.
TEST(Dynamics, TwoAttackConstantsAreToldApartFromOne) {
  constexpr double kRate = 48000;
  const Played p = played(997, -40, -6, kRate, 1.2, 1.5);
  const BlockSteps at = block_steps(std::get<LevelBlock>(p.recipe.parts[1].kind), kRate);
  Stimulus stimulus(p.recipe);
  const auto first = static_cast<double>(stimulus.parts()[1].first_frame);
  const auto up = static_cast<std::size_t>(first + at.up_frame) + 1,
             down = static_cast<std::size_t>(first + at.down_frame) + 1;
  for (const bool two : {true, false})
    for (const auto model : {DetectorModel::gain_in_db, DetectorModel::mean_square}) {
      Signal gain = gains(p.levels, kRate, {model, 0.02, 0.1});
      if (two)
        for (std::size_t n = up; n < down; ++n) {
          const double t = static_cast<double>(n - up) / kRate, whole = static_gain(-6);
          gain[n] = whole * (1 - 0.7 * std::exp(-t / 0.008) - 0.3 * std::exp(-t / 0.15));
        }
      const auto result = measured(p, with_gain(p, gain));
      const ModelFit& best = result.channels[0].blocks[0].attack.models[0];
      EXPECT_EQ(best.model == DetectorModel::two_constants, two);
      const Sheet sheet = dynamics_sheet(result, {"a.wav"}, {"b.wav"});
      const Reading *fast = find_reading(sheet, "attack_fast_ms", 0),
                    *slow = find_reading(sheet, "attack_slow_ms", 0);
      ASSERT_EQ(fast != nullptr, two);
      if (!two) continue;
      EXPECT_NEAR(*fast->value, 8, 0.4);
      EXPECT_NEAR(*slow->value, 150, 8);
      EXPECT_NEAR(std::get<double>(*find_condition(*slow, "share")), 0.3, 0.02);
    }
}

// Blocks so close together that the gain never comes back: what it would return to is seen nowhere.
TEST(Dynamics, AReleaseLongerThanEveryPauseIsNotGuessed) {
  constexpr double kRate = 48000;
  Recipe recipe{.sample_rate_hz = kRate, .marks = false, .silence_before_s = 0, .silence_after_s = 0};
  for (int i = 0; i < 3; ++i)
    recipe.parts.push_back(
        {.name = "block " + std::to_string(i),
         .kind = LevelBlock{.low_dbfs = -40, .high_dbfs = -6, .low_s = 0.3, .high_s = 0.6, .after_s = 0.3}});
  Stimulus stimulus(recipe);
  Signal x(static_cast<std::size_t>(stimulus.frames()));
  stimulus.render(0, 0, x);
  // Threshold -20, 4:1, known levels, gain in dB with 10 ms and 1.5 s.
  Signal y = x;
  double gain = 0;
  for (std::size_t n = 0; n < y.size(); ++n) {
    const double t = std::fmod(static_cast<double>(n) / kRate, 1.2), asked = t >= 0.3 && t < 0.9 ? -10.5 : 0;
    gain = asked + (gain - asked) * std::exp(-1 / kRate / (asked < gain ? 0.01 : 1.5));
    y[n] *= ratio_from_db(gain);
  }
  const Audio a = audio_of(x, kRate), b = audio_of(y, kRate);
  MemorySource from(a), against(b);
  const auto result =
      measure_dynamics(testing::played(from, stimulus, Take{}), testing::played(against, stimulus, Take{}));
  const Sheet sheet = dynamics_sheet(result, {"a.wav"}, {"b.wav"});
  std::string text;
  for (const Finding& f : sheet.findings) text += f.text + "\n";
  EXPECT_NE(text.find("the release is longer than"), std::string::npos) << text;
  EXPECT_NE(text.find("leave a pause of "), std::string::npos) << text;
  const auto& blocks = result.channels[0].blocks;
  ASSERT_EQ(blocks.size(), 3U);
  // Before the first one it was at rest, so that its way back is known; 18 % of it is all that was seen.
  EXPECT_FALSE(blocks[0].release.open_end);
  EXPECT_NEAR(blocks[0].release.reached, 1 - std::exp(-0.3 / 1.5), 0.03);
  EXPECT_FALSE(blocks[0].release.to_63_s);
  for (std::size_t i = 1; i < 3; ++i) {
    EXPECT_TRUE(blocks[i].release.open_end) << i;
    EXPECT_FALSE(blocks[i].release.to_63_s) << i;
    EXPECT_TRUE(blocks[i].release.models.empty()) << i;
    // 1.5 s to 63 %: 6.9 s to 99 %.
    ASSERT_TRUE(blocks[i].release.needed_s) << i;
    EXPECT_NEAR(*blocks[i].release.needed_s, 6.9, 2.3) << i;
  }
}

std::string findings_of(const Sheet& sheet) {
  std::string text;
  for (const Finding& f : sheet.findings) text += f.text + "\n";
  return text;
}

TEST(Dynamics, WhatIsTooShortTooCoarseOrMissingIsSaid) {
  constexpr double kRate = 48000;
  const auto said = [&](const Played& p, const Design& design) {
    return findings_of(
        dynamics_sheet(measured(p, with_gain(p, gains(p.levels, kRate, design))), {"a.wav"}, {"b.wav"}));
  };
  const Design slow{DetectorModel::gain_in_db, 0.01, 1.0};
  const std::string late = said(played(997, -40, -6, kRate, 0.6, 1.0, 6), slow);
  EXPECT_NE(late.find("too short for the release, it needs about 4.6"), std::string::npos) << late;
  EXPECT_NE(said(played(997, -40, -6, kRate, 0.6, 1.0, 0.1), slow).find("still moves before the block"),
            std::string::npos);
  EXPECT_NE(said(played(997, -40, -6, kRate, 0.2), {DetectorModel::gain_in_db, 0.2, 0.1})
                .find("high_s has to be at least"),
            std::string::npos);
  EXPECT_NE(said(played(997, -40, -30, kRate, 0.6, 1, 6), slow).find("dB only: no times"), std::string::npos);
  EXPECT_NE(said(played(997, -40, -6, kRate, 0.6, 1, 0.8, {-50, -44, -38, -32, -26, -20, -14, -8}), slow)
                .find("too coarse to say how wide"),
            std::string::npos);
  EXPECT_NE(
      said(played(997, -40, -6, kRate, 0.6, 1, 0.8, {-40, -10}), slow).find("too few for a static curve"),
      std::string::npos);
}

// Under noise two models come to explain an attack alike: then neither detector is stated.
TEST(Dynamics, ADetectorIsStatedOnlyWhereTheOtherOneExplainsPlainlyLess) {
  constexpr double kRate = 48000;
  int stated = 0, count = 0;
  for (const auto model : {DetectorModel::gain_in_db, DetectorModel::mean_square, DetectorModel::amplitude,
                           DetectorModel::mean_square_then_gain})
    for (const double noise_db : {-120.0, -50.0})
      for (const double attack_ms : {2.0, 20.0}) {
        const double hz = attack_ms < 5 ? 5003 : 997;
        const Played p = played(hz, -30, -4, kRate);
        Signal y = with_gain(p, gains(p.levels, kRate, {model, 0.001 * attack_ms, 0.08, 0.001 * attack_ms}));
        for (std::size_t n = 0; n < y.size(); ++n) y[n] += ratio_from_db(noise_db) * gaussian(9, n);
        const Sheet sheet = dynamics_sheet(measured(p, y), {"a.wav"}, {"b.wav"});
        const Reading* detector = find_reading(sheet, "detector", 0);
        const std::string what =
            name_of(model) + " " + std::to_string(attack_ms) + " " + std::to_string(noise_db);
        ++count;
        stated += detector != nullptr;
        if (detector != nullptr) {
          EXPECT_EQ(detector->text, hears_rms(model) ? "rms" : "peak") << what;
        } else {
          EXPECT_HAS(findings_of(sheet), "cannot tell peak from mean square") << what;
        }
      }
  EXPECT_GE(stated, count / 2);
}

TEST(Dynamics, AnAttackWithinThePeriodIsABound) {
  constexpr double kRate = 48000;
  const auto sheet_of = [&](double hz, double attack_s) {
    const Played p = played(hz, -40, -6, kRate);
    return dynamics_sheet(
        measured(p, with_gain(p, gains(p.levels, kRate, {DetectorModel::gain_in_db, attack_s, 0.08}))),
        {"a.wav"}, {"b.wav"});
  };
  const Sheet unseen = sheet_of(997, 0.0002);
  const Reading* attack = find_reading(unseen, "attack_63_ms", 0);
  ASSERT_NE(attack, nullptr);
  EXPECT_TRUE(attack->bound);
  EXPECT_NEAR(*attack->value, 1, 0.1);
  EXPECT_EQ(find_reading(unseen, "attack_equivalent_ms", 0), nullptr);
  EXPECT_EQ(find_reading(unseen, "detector", 0), nullptr);
  EXPECT_HAS(findings_of(unseen),
             "over which 997 Hz tells the gain: a block of 10 kHz shows attacks from 0.1 ms");
  // The tone that it names shows it.
  const Sheet seen = sheet_of(10007, 0.0002);
  attack = find_reading(seen, "attack_63_ms", 0);
  ASSERT_NE(attack, nullptr);
  EXPECT_FALSE(attack->bound);
  EXPECT_NEAR(*attack->value, 0.2, 0.05);
}

TEST(Dynamics, WhatCannotBeMeasuredIsRefused) {
  const Played p = played(997, -40, -6, 48000);
  Signal broken = p.x;
  broken[broken.size() - 30000] = NAN;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)measured(p, broken); })
                .find("NaN or infinity (channel 1, frame"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)measured(p, Signal(1000, 0.1)); }).find("cut off"),
            std::string::npos);
  const auto silent = measured(p, Signal(p.x.size(), 0.0));
  EXPECT_TRUE(silent.channels[0].silent);
  EXPECT_TRUE(dynamics_sheet(silent, {}, {}).readings.empty());
  Recipe tone{.sample_rate_hz = 48000, .marks = false};
  tone.parts.push_back({.kind = Tone{}});
  const Audio a = audio_of(p.x, 48000);
  MemorySource x(a), y(a);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] {
                         Stimulus stimulus(tone);
                         (void)measure_dynamics(testing::played(x, stimulus, Take{}),
                                                testing::played(y, stimulus, Take{}));
                       })
                .find("neither a staircase nor a block"),
            std::string::npos);
}

}  // namespace
}  // namespace wavicon::dynamics_test
