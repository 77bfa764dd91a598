// SPDX-License-Identifier: MIT
// The list of measurements and the catalogue agree with each other, and readings move as their entries say.

#include <map>
#include <set>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/intake/bounce.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::catalogue_laws_test {
namespace {

using namespace testing;

constexpr double kSameDb = 0.01;     // of a level
constexpr double kSameShare = 0.01;  // of anything else

TEST(List, EveryMeasurementDescribesItself) {
  std::set<std::string> names;
  for (const MeasurementDescriptor& m : measurements()) {
    EXPECT_TRUE(names.insert(m.name).second) << m.name;
    EXPECT_FALSE(m.question.empty() || m.tables.empty() || m.headline.empty()) << m.name;
    ASSERT_NE(m.make, nullptr) << m.name;
    const auto measurement = m.make();
    std::set<std::string> options;
    for (const OptionField& field : measurement->fields()) {
      EXPECT_FALSE(field.sentence.empty()) << m.name << ": " << field.key;
      EXPECT_TRUE(options.insert(option_name(field)).second) << m.name << ": " << field.key;
    }
    EXPECT_NO_THROW(require_in_range(measurement->fields())) << m.name;
    for (const std::string& name : m.headline) {
      const bool known = std::any_of(m.tables.begin(), m.tables.end(),
                                     [&](const auto& table) { return find_entry(table(), name) != nullptr; });
      EXPECT_TRUE(known) << m.name << ": " << name;
    }
    EXPECT_EQ(find_measurement(measurements(), m.name), &m);
  }
  EXPECT_EQ(names.size(), 14U);
  EXPECT_EQ(find_measurement(measurements(), "colour"), nullptr);
}

TEST(List, OptionsAreNamedWithoutTheirUnits) {
  double value = 5;
  std::string word = "b";
  std::vector<double> pair = {1};
  EXPECT_EQ(option_name({.key = "window_s", .target = &value, .unit = "s"}), "window");
  EXPECT_EQ(option_name({.key = "reference_level_dbfs", .target = &value, .unit = "dBFS"}),
            "reference-level");
  EXPECT_EQ(option_name({.key = "thd_percent", .target = &value, .unit = "%"}), "thd");
  EXPECT_EQ(option_name({.key = "no_true_peak", .target = &value}), "no-true-peak");
  EXPECT_HAS(
      message_of(
          ErrorCode::bad_argument,
          [&] {
            require_in_range({{.key = "window_s", .target = &value, .unit = "s", .range = Range{0, 3}}});
          }),
      "window 5 is not within 0 to 3 s");
  EXPECT_HAS(message_of(ErrorCode::bad_argument,
                        [&] {
                          require_in_range({{.key = "match", .target = &word, .words = {"loudness", "rms"}}});
                        }),
             "match 'b'");
  EXPECT_HAS(
      message_of(ErrorCode::bad_argument,
                 [&] { require_in_range({{.key = "band_hz", .target = &pair, .unit = "Hz", .count = 2}}); }),
      "takes 2 values, not 1");
}

TEST(List, MeasureWordsOfRecipesComeFromIt) {
  const auto words = measure_words(measurements());
  EXPECT_EQ(words.back(), "nothing");
  RecipePart tone{.kind = Tone{}};
  tone.measure = {"noises"};
  EXPECT_EQ(measure_problem(measurements(), tone),
            "measure: there is no measurement 'noises' of a part; did you mean 'noise'?");
  tone.measure = {"aliasing"};
  EXPECT_EQ(measure_problem(measurements(), tone),
            "measure: aliasing is not made of a part of kind tone; it takes harmonics, levels, noise");
  tone.measure = {"levels", "nothing"};
  EXPECT_EQ(measure_problem(measurements(), tone), "");
  // What is usual of a kind can be made of it.
  for (const std::string& name : kind_names())
    for (const MeasurementDescriptor& m : measurements()) {
      if (m.part_use == nullptr || m.part_use(*kind_from_name(name)) == PartUse::no) continue;
      EXPECT_EQ(measure_problem(measurements(), {.kind = *kind_from_name(name), .measure = {m.name}}), "")
          << name;
    }
}

// Counts, words, settings, samples as they are, and figures of one stretch alone: they have no uncertainty.
const std::set<std::string> kExact = {
    "band_end_hz",    "ceiling_dbfs",       "clip_level_dbfs", "clipped_frames",
    "dc_offset",      "delay_samples",      "detector",        "dropout_count",
    "fade_in_frames", "fade_out_frames",    "gain_db",         "lead_frames",
    "lost_frames",    "loudness_range_lu",  "mains_percent",   "peak_dbfs",
    "polarity",       "rate_ratio",         "repeated_frames", "reported_samples",
    "residual_dbc",   "residual_peak_dbfs", "spread_samples",  "tail_frames",
    "take_count",     "used_bits",          "verdict",         "worst_alias_order"};

TEST(Catalogue, SaysOfEachReadingWhatAPersonNeeds) {
  std::map<std::string, std::string> units;
  std::size_t count = 0;
  for (const ReadingTable* table : reading_tables(measurements()))
    for (const ReadingEntry& e : table->entries) {
      const std::string which = table->measurement + ": " + e.name;
      EXPECT_FALSE(e.words.empty() || e.definition.empty()) << which;
      EXPECT_FALSE(e.conditions.empty()) << which;
      EXPECT_GE(e.digits, 0) << which;
      // 21 % is no 2e+01 %.
      if (e.unit == "%") {
        EXPECT_GE(e.digits, 3) << which;
      }
      EXPECT_EQ(e.definition.back(), '.') << which;
      // One name has one unit, wherever it is read, and its suffix tells it.
      const auto [known, added] = units.emplace(e.name, e.unit);
      EXPECT_EQ(known->second, e.unit) << which;
      const std::map<std::string, std::string> suffixes = {
          {"_dbfs", "dBFS"}, {"_hz", "Hz"},     {"_ms", "ms"},     {"_ppm", "ppm"},
          {"_dbc", "dBc"},   {"_percent", "%"}, {"_lufs", "LUFS"}, {"_dbtp", "dBTP"}};
      for (const auto& [suffix, unit] : suffixes)
        if (e.name.ends_with(suffix)) {
          EXPECT_EQ(e.unit, unit) << which;
        }
      if (e.uncertainty == Owes::no) {
        EXPECT_TRUE(kExact.contains(e.name)) << which << " says nothing of how sure it is";
      }
      ++count;
    }
  EXPECT_GT(count, 150U);
}

// A capture with something for every measurement of one.
Recipe all_parts(double rate) {
  Recipe recipe{.sample_rate_hz = rate, .silence_before_s = 0.2, .silence_after_s = 0.2};
  recipe.parts.push_back({.name = "tone", .kind = Tone{.level_dbfs = -20, .seconds = 1.2}});
  recipe.parts.push_back({.name = "hush", .kind = Silence{.seconds = 1.5}});
  recipe.parts.push_back(
      {.name = "sweep", .kind = Sweep{.seconds = 2, .level_dbfs = -18}, .silence_after_s = 0.6});
  recipe.parts.push_back(
      {.name = "stairs", .kind = Staircase{.levels_dbfs = {-50, -44, -38, -32, -26, -20}, .step_s = 0.3}});
  return recipe;
}

double device(double x) { return x + 0.05 * x * x - 0.1 * x * x * x + 2e-4; }

struct Taken {
  std::shared_ptr<Stimulus> stimulus;
  Signal x;
};

Taken taken_at(double rate) {
  Taken t{std::make_shared<Stimulus>(all_parts(rate)), {}};
  t.x = rendered(*t.stimulus);
  for (double& v : t.x) v = device(v);
  t.x = added(t.x, noise(t.x.size(), -85, 12));
  return t;
}

std::vector<Sheet> sheets_of(const Taken& t, double gain, const MeasurementDescriptor& m) {
  const auto capture = judge(audio_of(scaled(t.x, gain), t.stimulus->recipe().sample_rate_hz),
                             SampleFormat::float64, {t.stimulus, std::nullopt}, {.despite_faults = true});
  const auto measurement = m.make();
  MeasureRequest request;
  if (m.input == MeasuredInput::against) request.reference = judge_stimulus(t.stimulus);
  return measured(*measurement, request, capture);
}

bool measures_one(const MeasurementDescriptor& m) {
  return m.input == MeasuredInput::capture || m.name == "response" || m.name == "dynamics";
}

void expect_law(const Reading& before, const Reading& after, double gain, const std::string& which) {
  ASSERT_EQ(before.name, after.name) << which;
  ASSERT_NE(before.entry, nullptr) << which;
  ASSERT_EQ(before.value.has_value(), after.value.has_value()) << which;
  if (!before.value || before.bound || after.bound) return;
  const std::string& unit = before.entry->unit;
  const bool level = unit.rfind("dB", 0) == 0 || unit == "LUFS" || unit == "LU";
  const double tolerance = level ? kSameDb : kSameShare * std::abs(*before.value) + 1e-9;
  double expected = *before.value;
  if (before.entry->gain == GainLaw::adds) expected += db_from_ratio(std::abs(gain));
  if (before.entry->gain == GainLaw::scales) expected *= std::abs(gain);
  if (gain < 0 && before.entry->polarity == PolarityLaw::turns_sign) expected = -expected;
  const bool told =
      before.entry->gain != GainLaw::other && (gain > 0 || before.entry->polarity != PolarityLaw::other);
  if (told) {
    EXPECT_NEAR(*after.value, expected, tolerance) << which << ": " << before.name;
  }
}

TEST(Catalogue, ReadingsMoveWithGainAndPolarityAsTheirEntriesSay) {
  const Taken t = taken_at(48000);
  std::size_t checked = 0;
  for (const MeasurementDescriptor& m : measurements()) {
    if (!measures_one(m)) continue;
    const auto before = sheets_of(t, 1, m);
    for (const double gain : {0.25, -1.0}) {
      const auto after = sheets_of(t, gain, m);
      ASSERT_EQ(before.size(), after.size()) << m.name;
      for (std::size_t s = 0; s < before.size(); ++s) {
        ASSERT_EQ(before[s].readings.size(), after[s].readings.size()) << m.name << " " << gain;
        for (std::size_t i = 0; i < before[s].readings.size(); ++i, ++checked)
          expect_law(before[s].readings[i], after[s].readings[i], gain,
                     m.name + " x " + std::to_string(gain));
      }
    }
  }
  EXPECT_GT(checked, 120U);
}

TEST(Catalogue, EveryReadingOfEverySheetHasItsEntry) {
  for (const double rate : {44100.0, 96000.0}) {
    const Taken t = taken_at(rate);
    for (const MeasurementDescriptor& m : measurements()) {
      if (!measures_one(m)) continue;
      for (const Sheet& sheet : sheets_of(t, 1, m))
        for (const Reading& r : sheet.readings) {
          ASSERT_NE(r.entry, nullptr) << m.name << ": " << r.name;
          EXPECT_EQ(r.unit, r.entry->unit) << m.name << ": " << r.name;
          EXPECT_TRUE(missing_of(r).empty())
              << m.name << ": " << r.name << " lacks " << missing_of(r).front();
          const bool announced = std::any_of(m.tables.begin(), m.tables.end(), [&](const auto& table) {
            return find_entry(table(), r.name) == r.entry;
          });
          EXPECT_TRUE(announced) << m.name << ": " << r.name;
        }
    }
  }
}

}  // namespace
}  // namespace wavicon::catalogue_laws_test
