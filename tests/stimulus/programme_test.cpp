// SPDX-License-Identifier: MIT
#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/stimulus/stimulus.hpp"
#include "wavicon/stimulus/stimulus_source.hpp"

namespace wavicon::programme_test {
namespace {

using namespace testing;

Recipe programme(const std::string& content, double rate, std::int64_t seed, double seconds = 8) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back({.kind = Programme{.content = content,
                                            .level_dbfs = -21,
                                            .seconds = seconds,
                                            .seed = seed,
                                            .fade_in_s = 0,
                                            .fade_out_s = 0}});
  return recipe;
}

std::vector<double> rendered(Stimulus& stimulus, std::size_t block) {
  std::vector<double> x(static_cast<std::size_t>(stimulus.frames()));
  for (std::size_t n = 0; n < x.size(); n += block)
    stimulus.render(static_cast<std::int64_t>(n), 0, std::span(x).subspan(n, std::min(block, x.size() - n)));
  return x;
}

TEST(Programme, HasItsLevelNoOffsetAndTheSameBitsForAnyBlocks) {
  for (const char* content : {"voice", "chamber"})
    for (const double rate : {8000.0, 44100.0, 96000.0}) {
      Stimulus stimulus(programme(content, rate, 3));
      const auto x = rendered(stimulus, 5000);
      double sum = 0, mean = 0;
      for (const double v : x) {
        sum += v * v;
        mean += v;
      }
      EXPECT_NEAR(db_from_ratio(std::sqrt(sum / static_cast<double>(x.size()))), -21, 0.01)
          << content << rate;
      EXPECT_LT(std::abs(mean) / static_cast<double>(x.size()), 1e-4) << content << rate;
      EXPECT_EQ(rendered(stimulus, 333), x) << content << rate;
    }
}

TEST(Programme, SeedsDifferAndLengthChangesNothingBefore) {
  Stimulus one(programme("voice", 48000, 1)), two(programme("voice", 48000, 2)),
      longer(programme("voice", 48000, 1, 20));
  const auto x = rendered(one, 8192);
  EXPECT_NE(rendered(two, 8192), x);
  std::vector<double> y(x.size());
  longer.render(0, 0, y);
  EXPECT_EQ(y, x);
}

TEST(TwoTone, PairsOfStandardsTakeThePlaceOfWhatIsSaid) {
  for (const auto& [name, lower, upper, ratio] : {std::tuple{"smpte", 60.0, 7000.0, 4.0},
                                                  {"din", 250.0, 8000.0, 4.0},
                                                  {"itu", 19000.0, 20000.0, 1.0}}) {
    const TwoTone pair = resolved({.pair = name, .lower_hz = 1, .upper_hz = 2, .ratio = 3});
    EXPECT_EQ(pair.lower_hz, lower);
    EXPECT_EQ(pair.upper_hz, upper);
    EXPECT_EQ(pair.ratio, ratio);
  }
  EXPECT_EQ(resolved({}).upper_hz, 7000);
  Recipe recipe{.sample_rate_hz = 32000};
  recipe.parts.push_back({.kind = TwoTone{.pair = "itu"}});
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { require_valid(recipe); })
                .find("20000 Hz is not below half the sample rate"),
            std::string::npos);
}

TEST(Staircase, StepsLieWhereTheyArePlayed) {
  Recipe recipe{.marks = false};
  const Staircase staircase{.frequencies_hz = {331, 997},
                            .levels_dbfs = {-40, -20},
                            .trims_db = {0, -3},
                            .step_s = 0.2,
                            .gap_s = 0.05,
                            .edge_s = 0.01};
  recipe.parts.push_back({.kind = staircase});
  Stimulus stimulus(recipe);
  const auto x = rendered(stimulus, 4096);
  const auto steps = staircase_steps(staircase, 48000);
  ASSERT_EQ(steps.size(), 4U);
  EXPECT_EQ(steps[2].frequency_hz, 997);
  EXPECT_EQ(steps[2].level_dbfs, -43);
  for (const StaircaseStep& step : steps) {
    const std::span<const double> part(x.data() + step.first_frame, static_cast<std::size_t>(step.frames));
    EXPECT_NEAR(db_from_ratio(peak(part)), step.level_dbfs, 0.01);
    EXPECT_NEAR(db_from_ratio(peak(part.first(500))), step.level_dbfs, 0.02) << "clear of the edge";
  }
}

TEST(StimulusSource, ReadsWhatIsRendered) {
  Recipe recipe{.channel_count = 2};
  recipe.parts.push_back({.kind = Noise{.seconds = 0.1, .independent = true}});
  Stimulus stimulus(recipe);
  StimulusSource source(stimulus);
  std::vector<double> planar(2 * 1000), one(1000);
  source.read(20000, planar);
  stimulus.render(20000, 1, one);
  EXPECT_TRUE(std::equal(one.begin(), one.end(), planar.begin() + 1000));
  EXPECT_EQ(source.frames(), stimulus.frames());
}

}  // namespace
}  // namespace wavicon::programme_test
