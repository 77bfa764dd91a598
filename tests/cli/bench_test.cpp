// SPDX-License-Identifier: MIT
// Whole plans by the program.

#include "program.hpp"

namespace wavicon::bench_test {
namespace {

using namespace testing;

class BenchCommand : public Program {
 protected:
  void SetUp() override {
    std::ofstream(file("p.toml")) << R"(through = ["sim:tern?drive={drive}"]
[play]
sample_rate_hz = 48000
[[play.part]]
kind = "tone"
frequency_hz = 997
level_dbfs = -12
seconds = 0.5
[rows]
drive = [0, 24]
[[measure]]
with = "harmonics"
[[limit]]
keep = "thd_db<-60"
)";
  }
};

TEST_F(BenchCommand, RunsAPlanAndRemembersIt) {
  EXPECT_EQ(good("bench p.toml --list"),
            "p: 2 cells; 3 s of sound, nothing of it was run yet\ndrive=0\ndrive=24\n");
  EXPECT_FALSE(std::filesystem::exists(file("logbook.sqlite")));
  const Ran first =
      wavicon("bench p.toml --junit j.xml --captures c --csv m.csv --sheet s.json --tag build=7");
  EXPECT_EQ(first.status, 1) << first.err;
  EXPECT_HAS(first.out, "p: 2 cells; 1 of 2 limits are not kept: thd_db<-60 at drive=24");
  EXPECT_HAS(read_text(file("j.xml")), "tests=\"4\" failures=\"1\" errors=\"0\"");
  EXPECT_EQ(json::parse(read_text(file("s.json"))).size(), 2u);
  // A capture of a cell is what feeding alone gives, and measures the same.
  const json alone = json::parse(good("harmonics c/drive-24.wav --json"));
  EXPECT_EQ(reading(alone, "thd_db")["value"],
            reading(json::parse(read_text(file("s.json")))[1], "thd_db")["value"]);
  const Ran second = wavicon("bench p.toml");
  EXPECT_EQ(second.status, 1);
  EXPECT_HAS(second.out, "p: 2 cells, 2 of them known from before");
  EXPECT_EQ(good("bench p.toml --only drive=0 --quiet"), "");
  EXPECT_HAS(good("logbook rank thd_db --tag build=7"), "sim:tern?drive=");
  EXPECT_HAS(good("logbook list"), "drive=24 plan=p");
  EXPECT_HAS(bad(2, "bench p.toml --only drive=7"), "row 'drive' does not take '7'");
  EXPECT_HAS(bad(3, "bench none.toml"), "there is no such plan");
  std::ofstream(file("bad.toml")) << "thruogh = []\n";
  EXPECT_HAS(bad(3, "bench bad.toml"), "bad.toml:1:1: there is no key 'thruogh'; did you mean 'through'");
  std::string text = read_text(file("p.toml"));
  std::ofstream(file("unit.toml")) << text.replace(text.find("tern"), 4, "tren");
  EXPECT_HAS(bad(2, "bench unit.toml"), "did you mean");
}

// The plan that the docs show; a place that is less sure than it is large is a bound.
TEST_F(BenchCommand, OfTheDocsAnswersByItsLimits) {
  const std::string plan = std::string("bench '") + WAVICON_SOURCE_DIR + "/data/tern-oversampling.toml' ";
  EXPECT_HAS(good(plan + "--list"), "tern-oversampling: 6 cells; ");
  const json page = json::parse(good(plan + "--only 'drive=18 oversampling=4' --json"));
  const json& cell = page["aliasing"][0];
  EXPECT_EQ(cell["oversampling"], "4");
  EXPECT_NEAR(cell["worst_alias_dbc"]["value"].get<double>(), -56.35, 0.05);
  EXPECT_TRUE(cell["worst_alias_hz"]["bound"].get<bool>());
  EXPECT_FALSE(cell["worst_alias_hz"].contains("uncertainty"));
}

}  // namespace
}  // namespace wavicon::bench_test
