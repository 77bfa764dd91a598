// SPDX-License-Identifier: MIT
#include "wavicon/stimulus/recipe.hpp"

#include "support.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::recipe_test {
namespace {

using testing::message_of;

TEST(Recipe, IsReadAndWrittenWithoutLoss) {
  const std::string text = R"(name = "all of it"
sample_rate_hz = 96000.0
channels = 2
bits = 16
dither = true
seed = 7
pad_db = -3.0
marks = false
silence_before_s = 0.5

[[part]]
kind = "tone"
name = "with words"
channels = [2]
silence_after_s = 0.25
frequency_hz = 331.5
clip_db = 3.0

[[part]]
kind = "multitone"
with_previous = true
oscillators = [
  { frequency_hz = 83.0, to_hz = 166.0 },
  { level_dbfs = -30.0, phase_deg = 90.0, delay_s = 0.1 },
]

[[part]]
kind = "burst"
carrier = { kind = "noise", colour = "pink", seed = 5 }
on_s = 0.1

[[part]]
kind = "staircase"
frequencies_hz = [83.0, 167.0]
trims_db = [0.0, -1.5]
)";
  const Recipe recipe = parse_recipe(text, "r.toml");
  EXPECT_EQ(recipe.parts.size(), 4U);
  EXPECT_EQ(recipe_text(recipe), text);
  EXPECT_EQ(recipe_text(parse_recipe(recipe_text(recipe), "again")), text);
}

TEST(Recipe, EveryKindRoundTripsAtItsDefaults) {
  for (const std::string& name : kind_names()) {
    Recipe recipe;
    recipe.parts.push_back({.kind = *kind_from_name(name)});
    if (auto* multitone = std::get_if<Multitone>(&recipe.parts[0].kind)) multitone->oscillators.resize(2);
    EXPECT_EQ(kind_name(recipe.parts[0].kind), name);
    EXPECT_EQ(recipe_text(parse_recipe(recipe_text(recipe), name)), recipe_text(recipe)) << name;
  }
  EXPECT_FALSE(kind_from_name("nothing"));
}

TEST(Recipe, APartSaysWhatIsMeasuredOfIt) {
  const std::string part = "[[part]]\nkind = \"tone\"\n";
  const Recipe recipe = parse_recipe(part + "measure = [\"noise\", \"harmonics\"]\n" + part, "r.toml");
  EXPECT_EQ(recipe.parts[0].measure, (std::vector<std::string>{"noise", "harmonics"}));
  EXPECT_TRUE(recipe.parts[1].measure.empty());
  EXPECT_EQ(recipe_text(parse_recipe(recipe_text(recipe), "r.toml")), recipe_text(recipe));
  const auto refused = [](const std::string& text) {
    return message_of(ErrorCode::bad_input, [&] { (void)parse_recipe(text, "r.toml"); });
  };
  // Which measurements there are is a rule of whoever reads the recipe.
  const PartRule rule = [](const RecipePart& p) {
    return p.measure.empty() ? "" : "no " + p.measure.front();
  };
  EXPECT_EQ(message_of(ErrorCode::bad_input,
                       [&] { (void)parse_recipe(part + "measure = [\"noises\"]", "r.toml", rule); }),
            "r.toml:3:11: no noises");
  EXPECT_EQ(parse_recipe(part, "r.toml", rule).parts.size(), 1U);
  EXPECT_NE(refused(part + "measure = 3").find("a list of words"), std::string::npos);
}

TEST(Recipe, ErrorsSayWhereAndWhatIsAllowed) {
  auto refused = [](const std::string& text) {
    return message_of(ErrorCode::bad_input, [&] { (void)parse_recipe(text, "r.toml"); });
  };
  const std::string part = "[[part]]\nkind = \"tone\"\n";
  EXPECT_EQ(refused("a b").substr(0, 11), "r.toml:1:3:");
  EXPECT_EQ(refused("nam = \"x\"\n" + part), "r.toml:1:1: unknown key 'nam'; did you mean 'name'?");
  EXPECT_EQ(refused("name = 3\n" + part),
            "r.toml:1:8: name: text in quotes is wanted, not a value of type integer");
  EXPECT_EQ(refused(part + "seconds = -3"), "r.toml:3:11: seconds: -3 is not within 1e-06 to 86400");
  EXPECT_EQ(refused(part + "seconds = \"3\""),
            "r.toml:3:11: seconds: a number is wanted, not a value of type string");
  EXPECT_EQ(refused(part + "frequency_hz = 24000"),
            "r.toml:3:16: frequency_hz: 24000 Hz is not above 0 and below half the sample rate (24000 Hz)");
  EXPECT_EQ(refused(part + "seconds = nan"), "r.toml:3:11: seconds: nan is not within 1e-06 to 86400");
  EXPECT_EQ(refused("[[part]]\nkind = \"tune\""),
            "r.toml:2:8: kind: 'tune' is not known; did you mean 'tone'?");
  EXPECT_NE(
      refused("[[part]]\nseconds = 1").find("r.toml:1:1: the part has no kind; there are: tone, multitone"),
      std::string::npos);
  EXPECT_EQ(refused(part + "channels = [2]"),
            "r.toml:1:1: channels: there is no channel 2, the recipe has 1");
  EXPECT_EQ(refused(part + "fade_in_s = 2.0"),
            "r.toml:1:1: fade_in_s and fade_out_s: 2 s and 0 s do not fit into 1 s");
  EXPECT_EQ(refused("bits = 20\n" + part), "r.toml:1:1: bits: 20 is not 16, 24 or 32 (float)");
  EXPECT_EQ(refused("channels = 1.5\n" + part),
            "r.toml:1:12: channels: a whole number is wanted, not a value of type floating-point");
  EXPECT_EQ(refused("name = \"x\""), "r.toml:1:1: there is no part; a recipe needs at least one [[part]]");
  EXPECT_EQ(refused("part = 3"), "r.toml:1:8: part: is written [[part]], once for each");
  EXPECT_NE(refused("[[part]]\nkind = \"multitone\"").find("oscillators is missing"), std::string::npos);
  EXPECT_NE(refused("[[part]]\nkind = \"multitone\"\noscillators = []").find("at least one"),
            std::string::npos);
  EXPECT_NE(
      refused("[[part]]\nkind = \"burst\"\ncarrier = { kind = \"block\" }").find("tone, sweep or noise"),
      std::string::npos);
  EXPECT_NE(refused("[[part]]\nkind = \"sweep\"\nlaw = \"curved\"")
                .find("r.toml:3:7: law: 'curved' is not known; there are: log, linear"),
            std::string::npos);
  EXPECT_NE(refused("[[part]]\nkind = \"noise\"\nfrom_hz = 500\nto_hz = 400")
                .find("from_hz: 500 is not below the band's upper end (400)"),
            std::string::npos);
  EXPECT_NE(refused("[[part]]\nkind = \"noise\"\noctave_hz = 500\nto_hz = 400").find("only one of them"),
            std::string::npos);
  EXPECT_NE(refused("[[part]]\nkind = \"staircase\"\ntrims_db = [1, 2]").find("2 values for 1 frequencies"),
            std::string::npos);
  EXPECT_NE(refused("[[part]]\nkind = \"staircase\"\nlevels_dbfs = [-20, -10]\nstarts_s = [0]")
                .find("starts_s: 1 values for 2 steps"),
            std::string::npos);
  EXPECT_NE(refused("[[part]]\nkind = \"staircase\"\nlevels_dbfs = [-20, -10]\nstarts_s = [0, 0.3]")
                .find("the step at 0.3 s begins before the one at 0 s has ended"),
            std::string::npos);
  const std::string day = "[[part]]\nkind = \"silence\"\nseconds = 86400\n";
  EXPECT_NE(refused(day + day).find("24 h (86400 s) is the most"), std::string::npos);
}

TEST(Recipe, AThousandOscillatorsWork) {
  Recipe recipe{.marks = false};
  Multitone many{.seconds = 0.01};
  for (int i = 0; i < 1000; ++i)
    many.oscillators.push_back({.frequency_hz = 10.0 + 20 * i, .level_dbfs = -70});
  recipe.parts.push_back({.kind = many});
  Stimulus stimulus(parse_recipe(recipe_text(recipe), "many"));
  std::vector<double> x(480);
  stimulus.render(0, 0, x);
  EXPECT_GT(peak(x), 0.0);
}

}  // namespace
}  // namespace wavicon::recipe_test
