// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement_list.hpp"

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/stimulus/stimulus_source.hpp"

namespace wavicon::part_measurements_test {
namespace {

using namespace testing;

// A capture of a stimulus: every sample through a device of known doing, some frames late.
struct Captured {
  Captured(const Recipe& recipe, const std::function<double(double)>& device, std::int64_t late = 0)
      : stimulus(recipe), audio(recipe.sample_rate_hz, 1, 0) {
    Signal x(static_cast<std::size_t>(stimulus.frames()));
    stimulus.render(0, 0, x);
    for (double& v : x) v = device(v);
    x.insert(x.begin(), static_cast<std::size_t>(late), 0.0);
    audio = audio_of(x, recipe.sample_rate_hz);
    take.first_frame = static_cast<double>(late);
  }
  std::vector<PartSheet> measured() {
    MemorySource source(audio);
    return measure_parts(played(source, stimulus, take));
  }
  Stimulus stimulus;
  Audio audio;
  Take take;
};

double value_of(const PartSheet& part, const std::string& name) {
  const Reading* reading = find_reading(part.sheet, name, 0);
  if (reading == nullptr) reading = find_reading(part.sheet, name, std::nullopt);
  EXPECT_NE(reading, nullptr) << name << " of " << part.measurement;
  return reading != nullptr && reading->value ? *reading->value : NAN;
}

Recipe recipe_of(std::vector<RecipePart> parts) {
  Recipe recipe{.name = "parts", .marks = false, .silence_before_s = 0.2, .silence_after_s = 0.7};
  recipe.parts = std::move(parts);
  return recipe;
}

RecipePart part_of(const std::string& name, PartKind kind, std::vector<std::string> measure = {}) {
  RecipePart part;
  part.name = name;
  part.kind = std::move(kind);
  part.silence_after_s = 0.6;
  part.measure = std::move(measure);
  return part;
}

TEST(PartMeasurements, OfEachKindTheFirstIsMeasuredAsUsual) {
  Captured captured(
      recipe_of({part_of("low", Tone{.level_dbfs = -20}), part_of("high", Tone{.level_dbfs = -6}),
                 part_of("sweep", Sweep{.seconds = 3}), part_of("hush", Silence{.seconds = 2}),
                 part_of("blip", Impulse{})}),
      [](double v) { return 0.5 * v; }, 333);
  const auto parts = captured.measured();
  std::vector<std::string> done;
  for (const PartSheet& part : parts) {
    EXPECT_EQ(part.problem, "") << part.measurement;
    done.push_back(captured.stimulus.parts()[part.part].name + " " + part.measurement);
  }
  EXPECT_EQ(done,
            (std::vector<std::string>{"low harmonics", "sweep response", "sweep aliasing", "hush noise"}));
  EXPECT_NEAR(value_of(parts[0], "fundamental_dbfs"), -20 + db_from_ratio(0.5), 1e-4);
  EXPECT_NEAR(value_of(parts[1], "gain_db"), db_from_ratio(0.5), 1e-3);
  EXPECT_EQ(find_reading(parts[3].sheet, "noise_dbfs", 0)->value, std::nullopt) << "nothing is there";
  for (const PartSheet& part : parts)
    for (const Reading& reading : part.sheet.readings)
      EXPECT_TRUE(std::any_of(reading.conditions.begin(), reading.conditions.end(),
                              [](const auto& condition) { return condition.first == "part"; }))
          << reading.name;
}

TEST(PartMeasurements, WhatAPartNamesIsMadeOfIt) {
  Captured captured(
      recipe_of(
          {part_of("soft", Tone{.level_dbfs = -40}, {"harmonics", "levels", "noise"}),
           part_of("loud", Tone{.level_dbfs = -6}, {"harmonics"}), part_of("hush", Silence{}, {"nothing"}),
           part_of("cue", Programme{.content = "chamber", .seconds = 6}, {"levels", "response"}),
           part_of("pink", Noise{.colour = "pink", .period_s = 0.7, .seconds = 3}, {"response", "levels"})}),
      [](double v) { return v + 0.1 * v * v * v; });
  const auto parts = captured.measured();
  std::vector<std::string> done;
  for (const PartSheet& part : parts) {
    EXPECT_EQ(part.problem, "") << part.measurement;
    done.push_back(captured.stimulus.parts()[part.part].name + " " + part.measurement);
  }
  EXPECT_EQ(done, (std::vector<std::string>{"soft harmonics", "soft levels", "soft noise", "loud harmonics",
                                            "cue levels", "cue response", "pink response", "pink levels"}));
  // Third harmonic of v + 0.1·v³: a quarter of 0.1·A² of the fundamental.
  for (const auto& [index, level] : {std::pair{0, -40.0}, {3, -6.0}}) {
    const double a = ratio_from_db(level), third = 0.025 * a * a / (1 + 0.075 * a * a);
    EXPECT_NEAR(value_of(parts[static_cast<std::size_t>(index)], "h3_dbc"), db_from_ratio(third), 0.01)
        << level;
  }
  EXPECT_NEAR(value_of(parts[1], "rms_dbfs"), -43.01, 0.01);
  EXPECT_NEAR(value_of(parts[6], "gain_db"), 0, 0.05);
}

TEST(PartMeasurements, StairsAndBlocksAreMeasuredTogetherAndOnce) {
  Staircase stairs{.step_s = 0.4};
  stairs.levels_dbfs.clear();
  for (double level = -50; level <= -10; level += 2) stairs.levels_dbfs.push_back(level);
  Captured captured(recipe_of({part_of("stairs", stairs, {"dynamics", "levels"}),
                               part_of("block", LevelBlock{.after_s = 0.6}, {"dynamics"})}),
                    [](double v) { return 2 * v; });
  const auto parts = captured.measured();
  ASSERT_EQ(parts.size(), 2U);
  EXPECT_EQ(parts[0].measurement, "dynamics");
  EXPECT_EQ(parts[0].problem, "");
  EXPECT_NEAR(value_of(parts[0], "makeup_db"), db_from_ratio(2), 0.01);
  EXPECT_EQ(parts[1].measurement, "levels");
}

TEST(PartMeasurements, WhatCannotBeMadeIsSaidAndTheRestIsMade) {
  Captured captured(recipe_of({part_of("tone", Tone{}), part_of("hush", Silence{.seconds = 2})}),
                    [](double) { return 0.0; });
  for (double& v : captured.audio.channel(0).subspan(captured.audio.channel(0).size() / 2)) v = 1e-3;
  const auto parts = captured.measured();
  ASSERT_EQ(parts.size(), 2U);
  EXPECT_HAS(parts[0].problem, "silence has no harmonics");
  EXPECT_TRUE(parts[0].sheet.readings.empty());
  EXPECT_EQ(parts[1].problem, "");
}

TEST(PartMeasurements, EveryWordHasReadingsForARow) {
  for (const std::string& word : measure_words(measurements())) {
    const MeasurementDescriptor* measurement = find_measurement(measurements(), word);
    ASSERT_EQ(measurement == nullptr, word == "nothing") << word;
    if (measurement == nullptr) continue;
    EXPECT_FALSE(measurement->headline.empty()) << word;
    for (const std::string& name : measurement->headline)
      EXPECT_NE(find_entry(measurement->tables.front()(), name), nullptr) << word << ": " << name;
  }
}

}  // namespace
}  // namespace wavicon::part_measurements_test
