// SPDX-License-Identifier: MIT
// Sheets that stay: kept, listed, ranked, compared, and held against by limits.

#include "program.hpp"

namespace wavicon::logbook_test {
namespace {

using namespace testing;

class LogbookCommand : public Program {
 protected:
  void SetUp() override { good("make silence --seconds 2 -o s.wav --quiet"); }
  // A capture whose noise has that level.
  void capture(const std::string& name, double dbfs) const {
    good("feed s.wav --quiet --through 'sim:heron?noise=" + std::to_string(dbfs) + "' -o " + name);
  }
};

TEST_F(LogbookCommand, KeepsWhatIsMeasuredAndShowsIt) {
  capture("a.wav", -100);
  EXPECT_HAS(bad(3, "logbook list"), "there is no logbook yet: --keep");
  EXPECT_HAS(good("noise a.wav --keep --as Heron --tag place='booth 2' --on 2026-03-02"),
             "kept as entry 1 in logbook.sqlite");
  EXPECT_HAS(good("noise a.wav --keep --as Heron --tag place='booth 2' --on 2026-03-02"),
             "entry 1 says the same already");
  // With --json standard output holds the sheet alone.
  const Ran ran = wavicon("levels a.wav --keep --json");
  EXPECT_EQ(ran.status, 0);
  EXPECT_EQ(json::parse(ran.out)["measurement"], "levels");
  EXPECT_HAS(ran.err, "kept as entry 2");
  EXPECT_HAS(good("health a.wav --keep"), "kept as entry 3");
  EXPECT_EQ(good("levels a.wav --from 0.5 --keep --quiet"), "");
  const std::string list = good("logbook list");
  EXPECT_HAS(list, "4 entries in logbook.sqlite, from 2026-03-02 on");
  EXPECT_HAS(list, "1 2026-03-02 noise Heron a.wav place=booth 2");
  EXPECT_HAS(good("logbook list heron booth"), "1 entry in");
  EXPECT_HAS(good("logbook list nobody"), "No entry in");
  EXPECT_HAS(good("logbook list --of levels --json"), "\"measurement\":\"levels\"");
  const std::string shown = good("logbook show 4");
  EXPECT_HAS(shown, "through sim:heron?noise=-100.000000 (wavicon ");
  EXPECT_HAS(shown, "option from_s = 0.5");
  EXPECT_HAS(shown, "stimulus sha256:");
  EXPECT_EQ(json::parse(good("logbook show 2 --json")), json::parse(ran.out));
  EXPECT_HAS(bad(2, "logbook show 99"), "there is no entry 99");
  EXPECT_HAS(good("logbook check"), "4 entries, all whole");
  EXPECT_HAS(good("logbook forget 3 4"), "2 entries taken out");
  EXPECT_HAS(bad(2, "logbook forget 3"), "there is no entry 3");
}

TEST_F(LogbookCommand, RanksAndTellsChanges) {
  for (const auto& [name, dbfs, day] : {std::tuple{"quiet", -110.0, "2026-01-02"},
                                        {"loud", -90.0, "2026-02-03"},
                                        {"middle", -100.0, "2026-03-04"}}) {
    capture(std::string(name) + ".wav", dbfs);
    good(std::string("noise ") + name + ".wav --quiet --keep --as " + name + " --on " + day);
  }
  const std::string ranking = good("logbook rank noise_dbfs --csv r.csv --plot r.svg");
  EXPECT_EQ(ranking.rfind("middle is the second quietest of three: -100.", 0), 0u) << ranking;
  EXPECT_EQ(read_text(file("r.csv"))
                .rfind("place,name,value,value_unit,value_uncertainty,when,entry,latest\n1,quiet,-110.", 0),
            0u);
  EXPECT_HAS(read_text(file("r.svg")), "middle");
  const json places = json::parse(good("logbook rank dynamic_range_db --json --words u --words loud"));
  EXPECT_EQ(places["places"].size(), 1u);
  EXPECT_EQ(places["places"][0]["name"], "loud");
  EXPECT_HAS(bad(2, "logbook rank nois_dbfs"), "did you mean 'noise_dbfs'");
  EXPECT_HAS(bad(2, "logbook rank mains_hz --lowest --highest"), "excludes");
  const std::string trend = good("logbook trend noise_dbfs noise_a_dbfs --plot t.svg");
  EXPECT_HAS(trend, "since 2026-01-02");
  EXPECT_HAS(trend, "these are three things (loud, middle, quiet)");
  EXPECT_HAS(read_text(file("t.svg")), "2026-02-0");
  EXPECT_HAS(good("logbook compare quiet loud"), "noise floor +20.");
  EXPECT_HAS(good("logbook compare 2026-01-02 3 --all --json"), "\"beyond\":\"no\"");
  EXPECT_HAS(bad(2, "logbook compare quiet lound"), "did you mean 'loud'");
}

TEST_F(LogbookCommand, LimitsAreHeldAgainstThePast) {
  capture("a.wav", -100);
  capture("b.wav", -99);
  EXPECT_HAS(bad(3, "noise a.wav --limit 'noise_dbfs<=last'"), "there is no logbook yet");
  good("noise a.wav --quiet --keep --as March");
  // What is kept now is not what the limit names.
  EXPECT_EQ(wavicon("noise b.wav --quiet --keep --limit 'noise_dbfs<=last+0.3'").status, 1);
  EXPECT_EQ(wavicon("noise b.wav --quiet --limit 'noise_dbfs<=last+0.3'").status, 0);
  EXPECT_EQ(wavicon("noise b.wav --quiet --limit 'noise_dbfs<=best+0.3'").status, 1);
  EXPECT_EQ(wavicon("noise b.wav --quiet --limit 'noise_dbfs<=March+1.5'").status, 0);
  EXPECT_HAS(wavicon("noise b.wav --limit 'noise_dbfs<=first'").out, "in entry 1, 20");
  EXPECT_HAS(bad(3, "noise b.wav --limit 'noise_dbfs<=Marsh'"),
             "no label in the logbook logbook.sqlite; did you mean 'March'");
  EXPECT_HAS(bad(3, "levels b.wav --limit 'rms_dbfs<=last'"), "holds no rms_dbfs of levels");
  EXPECT_HAS(bad(3, "noise b.wav --tag a=b --limit 'noise_dbfs<=last'"), "with this label and these tags");
  EXPECT_HAS(bad(2, "noise b.wav --as x"), "--keep keeps it");
  EXPECT_HAS(bad(2, "noise b.wav --keep --as last"), "label 'last'");
  EXPECT_HAS(bad(2, "noise b.wav --keep --tag ab"), "is not KEY=VALUE");
  EXPECT_HAS(bad(2, "noise b.wav --keep --on yesterday"), "is no date such as 2026-03-02");
  EXPECT_HAS(bad(2, "noise b.wav --keep --logbook mysql://x"), "is no scheme of a logbook");
}

TEST_F(LogbookCommand, SheetsThatAreFilesAreKept) {
  capture("a.wav", -100);
  good("noise a.wav --quiet --sheet a.json");
  good("levels a.wav a.wav --quiet --sheet two.json");
  EXPECT_HAS(good("logbook add a.json two.json --as files"),
             "kept as entries 1, 2 in logbook.sqlite; entry 2 says the same already");
  EXPECT_HAS(good("noise a.wav --keep --as files"), "entry 1 says the same already");
  good("logbook export -o all.jsonl");
  EXPECT_HAS(good("logbook add all.jsonl --logbook other.sqlite"), "kept as entries 1, 2 in other.sqlite");
  EXPECT_EQ(good("logbook export --logbook other.sqlite").size(), read_text(file("all.jsonl")).size());
  good("logbook export --csv all.csv");
  EXPECT_HAS(read_text(file("all.csv")), "a.wav,noise,noise_dbfs,1,");
  std::ofstream(file("broken.json")) << "{\"format\":\"wavicon-sheet\"}";
  EXPECT_HAS(bad(3, "logbook add a.json broken.json --as more"), "broken.json: the sheet has no \"version\"");
  EXPECT_HAS(good("logbook list"), "2 entries");
  EXPECT_HAS(bad(3, "logbook add none.json"), "there is no such sheet");
  EXPECT_HAS(bad(3, "logbook list --logbook a.wav"), "is no logbook and no database");
}

}  // namespace
}  // namespace wavicon::logbook_test
