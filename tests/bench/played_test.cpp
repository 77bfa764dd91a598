// SPDX-License-Identifier: MIT
// What is played and what came back: values in recipes, files of somebody else, captures that are there
// already, shares of the work.

#include <numbers>

#include "bench/plans.hpp"
#include "bench/store.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::played_test {
namespace {

using namespace testing;

constexpr const char* kLevels = "[[measure]]\nwith = \"levels\"\nshow = [\"rms_dbfs\"]\n";

TEST(Played, ValuesStandInRecipes) {
  const Plan plan = plan_of(R"(through = ["sim:dunlin?gain=-1"]
[play]
sample_rate_hz = 48000
[[play.part]]
kind = "tone"
frequency_hz = "{tone}"
level_dbfs = "{level}"
seconds = 0.4
[rows]
tone = [331, 997.5]
level = [-20, -6]
)" + kMeasure);
  const auto cells = cells_of(plan);
  ASSERT_EQ(cells.size(), 4u);
  const Tone tone = std::get<Tone>(recipe_of(plan, cells[3]).parts.at(0).kind);
  EXPECT_EQ(tone.frequency_hz, 997.5);
  EXPECT_EQ(tone.level_dbfs, -6);
  const auto results = results_of(plan);
  for (std::size_t i = 0; i < 4; ++i) {
    ASSERT_EQ(results[i].state, CellResult::State::measured) << results[i].reason;
    EXPECT_NEAR(value_of(results[i], "fundamental_hz"), i < 2 ? 331 : 997.5, 0.01);
    EXPECT_NEAR(value_of(results[i], "fundamental_dbfs"), (i % 2 == 0 ? -20 : -6) - 1, 0.001);
  }
  // What they make of the recipe is looked at before anything is run.
  const auto wrong = [](const std::string& level) {
    return "[play]\n[[play.part]]\nkind = \"tone\"\nlevel_dbfs = \"{level}\"\n[rows]\nlevel = " + level +
           "\n" + kMeasure;
  };
  EXPECT_HAS(message_of(ErrorCode::bad_input, [&] { (void)plan_of(wrong("[-20, 99]")); }), "(with level=99)");
  EXPECT_HAS(message_of(ErrorCode::bad_input, [&] { (void)plan_of(wrong("[\"loud\"]")); }), "level_dbfs");
  EXPECT_HAS(message_of(ErrorCode::bad_input,
                        [] {
                          (void)plan_of(
                              "[play]\n[[play.part]]\nkind = \"tone\"\nlevel_dbfs = \"{lvel}\"\n"
                              "[rows]\nlevel = [0]\n" +
                              kMeasure);
                        }),
             "{level} in 'through', 'play' or 'captures'; did you mean 'lvel'");
}

TEST(Played, AValueMayBeSeveralUnitsOrNone) {
  const Plan plan = plan_of(plan_with(
      "through = [\"{way}\", \"sim:dunlin?gain=-3\"]\n",
      "[rows]\nway = { straight = \"nothing\", once = \"sim:dunlin?gain=-2\", twice = \"sim:dunlin?gain=-2 "
      "sim:dunlin?gain=-4\" }\n" +
          std::string(kLevels)));
  const auto cells = cells_of(plan);
  ASSERT_EQ(cells.size(), 3u);
  EXPECT_EQ(cells[0].chain.size(), 1u);
  EXPECT_EQ(cells[2].chain,
            (std::vector<std::string>{"sim:dunlin?gain=-2", "sim:dunlin?gain=-4", "sim:dunlin?gain=-3"}));
  const auto results = results_of(plan);
  const double straight = value_of(results[0], "rms_dbfs");
  EXPECT_NEAR(value_of(results[1], "rms_dbfs"), straight - 2, 0.001);
  EXPECT_NEAR(value_of(results[2], "rms_dbfs"), straight - 6, 0.001);
  EXPECT_HAS(name_of(cells[2]), "way=twice");
  EXPECT_HAS(message_of(ErrorCode::bad_input,
                        [] {
                          (void)plan_of(plan_with("through = [\"{way}\"]\n",
                                                  "[rows]\nway = [\"sim:a sim:b\"]\n" + kMeasure));
                        }),
             "holds a space; a table gives it a name");
}

// A signal as somebody else makes it: plucked, decaying, at no round number.
Audio plucked(double rate_hz, double gain) {
  Audio audio(rate_hz, 1, static_cast<std::int64_t>(3 * rate_hz));
  for (std::size_t n = 0; n < audio.channel(0).size(); ++n) {
    const double t = std::fmod(static_cast<double>(n) / rate_hz, 0.75), at = static_cast<double>(n) / rate_hz;
    double y = 0;
    for (int k = 1; k < 7; ++k)
      y +=
          std::exp(-4 * k * t) * std::sin(2 * std::numbers::pi * 110.7 * k * (1 + 0.2 * std::floor(at)) * at);
    audio.channel(0)[n] = static_cast<float>(gain * 0.2 * y);
  }
  return audio;
}

class Files : public ::testing::Test {
 protected:
  TemporaryFolder folder_;
  void write(const std::string& name, double gain, double rate_hz = 44100) {
    write_audio_file(folder_.file(name), plucked(rate_hz, gain), {.format = SampleFormat::float32});
  }
};

TEST_F(Files, OfSomebodyElseArePlayedAsTheyAre) {
  write("a.wav", 1);
  write("b.wav", 0.5, 96000);
  const Plan plan = plan_of(
      "through = [\"sim:dunlin?gain={gain}\"]\n[play]\nfile = \"{track}.wav\"\n[rows]\n"
      "track = [\"a\", \"b\"]\ngain = [0, -5]\n[[measure]]\nwith = \"null\"\n" +
          std::string(kLevels),
      folder_.path());
  const auto results = results_of(plan);
  ASSERT_EQ(results.size(), 4u);
  for (std::size_t i = 0; i < 4; ++i) {
    ASSERT_EQ(results[i].state, CellResult::State::measured) << results[i].reason;
    EXPECT_NEAR(value_of(results[i], "gain_db"), i % 2 == 0 ? 0 : -5, 0.001);
    EXPECT_EQ(results[i].sheets.back().capture.sample_rate_hz, i < 2 ? 44100 : 96000);
  }
  EXPECT_NEAR(value_of(results[1], "rms_dbfs") - value_of(results[0], "rms_dbfs"), -5, 0.001);
  // Another file by the same name is another cell.
  const std::string before = results[0].known_by;
  write("a.wav", 0.9);
  EXPECT_NE(results_of(plan)[0].known_by, before);
  EXPECT_HAS(message_of(ErrorCode::bad_input,
                        [&] {
                          (void)plan_of("[play]\nfile = \"a.wav\"\n[rows]\nrate = [48000]\n" + kMeasure,
                                        folder_.path());
                        }),
             "files have a rate of their own");
}

TEST_F(Files, ThatCameBackAreMeasuredAndCompared) {
  write("one.wav", 1);
  write("two run.wav", 0.5);
  write("three.wav", 0.25);
  const std::string head =
      "captures = \"{take}\"\n[rows]\ntake = { one = \"one.wav\", two = \"two run.wav\", three = "
      "\"three.wav\" "
      "}\n";
  const Plan plan =
      plan_of(head + "[[measure]]\nwith = \"null\"\nagainst = \"first\"\n" + kLevels, folder_.path());
  const auto results = results_of(plan);
  ASSERT_EQ(results.size(), 5u);
  EXPECT_EQ(results[1].sheets.at(0).capture.file, "take=two");
  EXPECT_NEAR(value_of(results[3], "gain_db"), -6.0206, 0.001);
  EXPECT_NEAR(value_of(results[4], "gain_db"), -12.0412, 0.001);
  // What was played is a file as well: each capture against it.
  const auto against = results_of(plan_of(
      "captures = \"{take}\"\n[play]\nfile = \"one.wav\"\n[rows]\ntake = { two = \"two run.wav\", three = "
      "\"three.wav\" }\n[[measure]]\nwith = \"null\"\n" +
          std::string(kLevels),
      folder_.path()));
  ASSERT_EQ(against.size(), 2u);
  EXPECT_NEAR(value_of(against[0], "gain_db"), -6.0206, 0.001) << against[0].reason;
  EXPECT_NEAR(value_of(against[1], "gain_db"), -12.0412, 0.001) << against[1].reason;
  // A file that is not there is an error before anything is run.
  std::filesystem::remove(folder_.file("two run.wav"));
  EXPECT_HAS(message_of(ErrorCode::bad_input, [&] { (void)results_of(plan); }), "two run.wav");
  EXPECT_HAS(message_of(ErrorCode::bad_input,
                        [&] { (void)plan_of(head + "[[measure]]\nwith = \"null\"\n", folder_.path()); }),
             "nothing is known of what was played");
  EXPECT_HAS(
      message_of(
          ErrorCode::bad_input,
          [&] { (void)plan_of("captures = \"a\"\nthrough = [\"sim:tern\"]\n" + kMeasure, folder_.path()); }),
      "captures came back already");
}

// The same once more is another cell.
TEST(Played, RepeatsAreCellsOfTheirOwn) {
  const Plan plan = plan_of(plan_with("", "[rows]\nrepeat = [1, 2, 3]\n" + std::string(kLevels)));
  const auto results = results_of(plan);
  ASSERT_EQ(results.size(), 3u);
  EXPECT_NE(results[0].known_by, results[1].known_by);
  EXPECT_EQ(value_of(results[0], "rms_dbfs"), value_of(results[2], "rms_dbfs"));
}

// Shares are the same on every machine: together they are all of it, once.
TEST(Shares, TogetherAreAllOfIt) {
  const Plan plan = plan_of(plan_with("through = [\"sim:dunlin?gain={gain}\"]\n",
                                      "[rows]\ngain = [0, -1, -2, -3, -4]\n" + std::string(kLevels) +
                                          "[[measure]]\nwith = \"null\"\nagainst = \"first\"\n"));
  std::vector<std::string> together, whole;
  for (const CellResult& result : results_of(plan)) whole.push_back(result.known_by);
  for (std::size_t share = 1; share <= 4; ++share)
    for (const CellResult& result : results_of(plan, {.share = share, .shares = 4})) {
      EXPECT_EQ(result.state, CellResult::State::measured);
      together.push_back(result.known_by);
    }
  std::sort(whole.begin(), whole.end());
  std::sort(together.begin(), together.end());
  EXPECT_EQ(together, whole);
  EXPECT_EQ(whole.size(), 9u);
  EXPECT_TRUE(results_of(plan, {.share = 10, .shares = 10}).empty());
  EXPECT_THROW((void)results_of(plan, {.share = 0, .shares = 4}), Error);
  EXPECT_THROW((void)results_of(plan, {.share = 5, .shares = 4}), Error);
}

// What one measurement cannot say does not take the others along.
TEST(Cells, KeepWhatCouldBeMeasured) {
  const Plan plan = plan_of(plan_with("", "[[measure]]\nwith = \"aliasing\"\n" + kMeasure));
  const auto results = results_of(plan);
  ASSERT_EQ(results[0].state, CellResult::State::measured) << results[0].reason;
  ASSERT_EQ(results[0].sheets.size(), 2u);
  EXPECT_EQ(results[0].sheets[0].findings.at(0).code, FindingCode::not_measured);
  EXPECT_LT(value_of(results[0], "thd_db"), -100);
  const Plan none = plan_of(plan_with("", "[[measure]]\nwith = \"aliasing\"\n"));
  EXPECT_EQ(results_of(none)[0].state, CellResult::State::failed);
}

}  // namespace
}  // namespace wavicon::played_test
