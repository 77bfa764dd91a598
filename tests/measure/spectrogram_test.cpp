// SPDX-License-Identifier: MIT
#include "wavicon/measure/spectrogram/spectrogram.hpp"

#include "measure/judged.hpp"
#include "support.hpp"

namespace wavicon::spectrogram_test {
namespace {

using namespace testing;

constexpr double kLevelDb = 0.05;  // half a bin off the crest, twice zero-padded

double highest_in_column(const LevelMap& map, std::size_t column) {
  const auto from = map.z.begin() + static_cast<std::ptrdiff_t>(column * map.y.size());
  return *std::max_element(from, from + static_cast<std::ptrdiff_t>(map.y.size()));
}

TEST(Spectrogram, ASineReadsItsLevelWhereItLies) {
  for (const double rate : {8000.0, 48000.0, 192000.0})
    for (const bool logarithmic : {true, false}) {
      Audio audio(rate, 1, static_cast<std::int64_t>(rate * 2));
      for (std::int64_t n = 0; n < audio.frames(); ++n)
        audio.channel(0)[static_cast<std::size_t>(n)] = 0.1 * exact_sine(997, rate, n);
      MemorySource source(audio);
      const Sheet sheet = measure_spectrogram(taken(source), {.log_frequency = logarithmic});
      const LevelMap& map = sheet.maps.at(0);
      ASSERT_EQ(map.z.size(), map.x.size() * map.y.size());
      EXPECT_NEAR(highest_in_column(map, map.x.size() / 2), -20, kLevelDb) << rate;
      EXPECT_NEAR(*find_reading(sheet, "highest_dbfs", 0)->value, -20, kLevelDb) << rate;
      EXPECT_NEAR(*find_reading(sheet, "highest_hz", 0)->value, 997,
                  logarithmic ? 0.05 * 997 : rate / 2 / 400)
          << rate;
      EXPECT_GE(*std::min_element(map.z.begin(), map.z.end()), -200);
    }
}

TEST(Spectrogram, NothingShortIsLost) {
  Audio audio(48000, 2, 48000 * 60);
  audio.channel(1)[48000 * 31] = 0.5;
  MemorySource source(audio);
  const Sheet sheet = measure_spectrogram(taken(source), {.channel = 1, .columns = 50});
  EXPECT_NEAR(*find_reading(sheet, "highest_s", 1)->value, 31, 1.3);
}

TEST(Spectrogram, PathsFoldAtHalfTheRate) {
  Recipe recipe;
  recipe.parts.push_back({.name = "sweep", .kind = Sweep{.from_hz = 100, .to_hz = 20000, .seconds = 2}});
  const Stimulus stimulus(recipe);
  Sheet sheet;
  sheet.capture.sample_rate_hz = 48000;
  add_sweep_paths(sheet, stimulus, Take{}, 3);
  ASSERT_EQ(sheet.curves.size(), 2U);
  EXPECT_EQ(sheet.labels.at(0).text, "sweep");
  const Curve& second = sheet.curves[0];
  EXPECT_NEAR(second.y.front(), 200, 0.1);
  EXPECT_NEAR(second.y.back(), 48000 - 40000, 10);
  for (const double hz : second.y) EXPECT_LE(hz, 24000);
}

TEST(Spectrogram, EdgesOfItsRange) {
  Audio silent(48000, 1, 1);
  MemorySource source(silent);
  const Sheet sheet = measure_spectrogram(taken(source), {});
  EXPECT_FALSE(find_reading(sheet, "highest_dbfs", 0)->value);
  EXPECT_NE(sheet.findings[0].text.find("every sample is zero"), std::string::npos);
  Audio empty(48000, 1, 0);
  MemorySource none(empty);
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { (void)measure_spectrogram(taken(none), {}); }).find("0 frames"),
      std::string::npos);
  silent.channel(0)[0] = NAN;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)measure_spectrogram(taken(source), {}); })
                .find("NaN or infinity"),
            std::string::npos);
  silent.channel(0)[0] = 0.5;
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)measure_spectrogram(taken(source), {.overlap = 1}); })
          .find("overlap"),
      std::string::npos);
  Audio wide(768000, 64, 1000);
  MemorySource many(wide);
  EXPECT_EQ(measure_spectrogram(taken(many), {.channel = 63}).maps[0].channel, 63);
}

}  // namespace
}  // namespace wavicon::spectrogram_test
