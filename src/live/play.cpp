// SPDX-License-Identifier: MIT
#include "wavicon/live/play.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon {
namespace {

constexpr double kMostS = 600;  // of a loop
constexpr double kGapS = 0.5;   // behind a recipe
constexpr double kMarksEachS = 2;
constexpr const char* kMarks = "round trip";

}  // namespace

std::vector<std::string> play_words() { return {"tone", "sweep", "noise", "marks"}; }

Recipe recipe_to_play(const std::string& word, double sample_rate_hz) {
  std::string text;
  if (word == "sweep")
    text = fmt::format(
        "name = \"sweep\"\nmarks = false\n[[part]]\nkind = \"sweep\"\nseconds = 2.0\nfrom_hz = 20.0\n"
        "to_hz = {:.1f}\nlevel_dbfs = -20.0\n",
        std::min(20000.0, 0.45 * sample_rate_hz));
  else if (word == "noise")
    text =
        "name = \"noise\"\nmarks = false\n[[part]]\nkind = \"noise\"\ncolour = \"pink\"\nseconds = 8.0\n"
        "level_dbfs = -20.0\n";
  else if (word == "marks")
    text = fmt::format("name = \"{}\"\n[[part]]\nkind = \"silence\"\nseconds = 0.3\n", kMarks);
  else
    throw Error(ErrorCode::bad_argument,
                fmt::format("'{}' is nothing to play{}", word, name_hint(word, play_words())));
  Recipe recipe = parse_recipe(text, word);
  recipe.sample_rate_hz = sample_rate_hz;
  require_valid(recipe);
  return recipe;
}

std::vector<std::vector<float>> loop_of(Stimulus& stimulus) {
  const Recipe& recipe = stimulus.recipe();
  const double seconds = static_cast<double>(stimulus.frames()) / recipe.sample_rate_hz;
  if (seconds > kMostS)
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("{:.0f} s are too long to be played over and over: at most {:g} s", seconds, kMostS));
  const bool without_gap = recipe.parts.size() == 1 && !recipe.marks;
  const double behind = recipe.name == kMarks ? kMarksEachS - seconds : without_gap ? 0 : kGapS;
  std::vector<std::vector<float>> loop;
  std::vector<double> one(static_cast<std::size_t>(stimulus.frames()));
  for (int c = 0; c < recipe.channel_count; ++c) {
    stimulus.render(0, c, one);
    loop.emplace_back(one.begin(), one.end());
    loop.back().resize(one.size() +
                       static_cast<std::size_t>(std::llround(std::max(0.0, behind) * recipe.sample_rate_hz)));
  }
  return loop;
}

}  // namespace wavicon
