// SPDX-License-Identifier: MIT
#include "bench/store.hpp"
#include "wavicon/present/page_text.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::history_test {
namespace {

using namespace testing;

class Histories : public Stores {
 protected:
  static std::vector<std::string> column(const Page& page, const std::string& key, std::size_t table = 0) {
    std::vector<std::string> cells;
    const PageTable& of = page.tables.at(table);
    for (const auto& row : of.rows)
      for (std::size_t c = 0; c < row.size(); ++c)
        if (of.columns[c].key == key)
          cells.push_back(std::holds_alternative<std::string>(row[c]) ? std::get<std::string>(row[c])
                                                                      : "a figure");
    return cells;
  }
};
INSTANTIATE_TEST_SUITE_P(Of, Histories, ::testing::Values("file", "server"),
                         [](const auto& of) { return of.param; });

using Words = std::vector<std::string>;

TEST_P(Histories, RanksBestToWorst) {
  Logbook logbook = open();
  keep(logbook, noise_sheet_of("a.wav", {-90, -85}), "worse on the right", "2026-01-01");
  keep(logbook, noise_sheet_of("b.wav", {-100}), "quiet", "2026-01-02");
  keep(logbook, noise_sheet_of("c.wav", {-88}), "latest", "2026-01-03");
  keep(logbook, noise_sheet_of("d.wav", {-120}, 0.1, 96000), "at 96k", "2026-01-01");
  const History history = ranking(logbook, "noise_dbfs", {});
  EXPECT_EQ(column(history.page, "name"), (Words{"quiet", "latest", "worse on the right"}));
  EXPECT_EQ(column(history.page, "place"), (Words{"1", "2", "3"}));
  EXPECT_EQ(column(history.page, "latest"), (Words{"", "the latest", ""}));
  EXPECT_HAS(page_text(history.page),
             "latest is the second quietest of three: -88.00 ±0.10 dBFS noise floor");
  EXPECT_EQ(column(history.page, "name", 1), (Words{"at 96k"}));
  EXPECT_EQ(column(history.page, "differs", 1), (Words{"sample_rate_hz 96000 (not 48000)"}));
  // Of one channel the order is another.
  EXPECT_EQ(column(ranking(logbook, "noise_dbfs", {.channel = 0}).page, "name"),
            (Words{"quiet", "worse on the right", "latest"}));
  EXPECT_EQ(column(ranking(logbook, "noise_dbfs", {.better = Better::higher}).page, "name").front(),
            "latest");
  EXPECT_EQ(column(ranking(logbook, "noise_dbfs", {.filter = {.words = {"latest"}}}).page, "name"),
            (Words{"latest"}));
  EXPECT_HAS(message_of(ErrorCode::bad_argument, [&] { (void)ranking(logbook, "noise_dbf", {}); }),
             "did you mean 'noise_dbfs'");
  EXPECT_HAS(message_of(ErrorCode::bad_input,
                        [&] { (void)ranking(logbook, "noise_dbfs", {.filter = {.label = "none"}}); }),
             "of the entries that are meant none");
}

// Figures: -100 ±0.1, -99.9 ±0.1 (not told from it), -99.8 ±0.1 (surely behind the first alone).
TEST_P(Histories, WhatCannotBeToldApartSharesAPlace) {
  Logbook logbook = open();
  keep(logbook, noise_sheet_of("a.wav", {-100}), "a", "2026-01-01");
  keep(logbook, noise_sheet_of("b.wav", {-99.9}), "b", "2026-01-03");
  keep(logbook, noise_sheet_of("c.wav", {-99.8}), "c", "2026-01-02");
  const History history = ranking(logbook, "noise_dbfs", {});
  EXPECT_EQ(column(history.page, "place"), (Words{"1", "1", "2"}));
  EXPECT_HAS(page_text(history.page), "b is the quietest of three, and cannot be told from a");
}

TEST_P(Histories, ABoundCountsAsTheWorstThatItAllows) {
  Logbook logbook = open();
  const auto with_bound = [](const char* name, double value, bool bound) {
    Sheet sheet = noise_sheet_of("x.wav", {value});
    sheet.readings[0].name = name;
    sheet.readings[0].bound = bound;
    sheet.readings[0].uncertainty.reset();
    return sheet;
  };
  keep(logbook, with_bound("noise_dbfs", -110, true), "bound", "2026-01-01");
  keep(logbook, with_bound("noise_dbfs", -120, false), "figure", "2026-01-02");
  keep(logbook, with_bound("noise_dbfs", -100, false), "loud", "2026-01-03");
  EXPECT_EQ(column(ranking(logbook, "noise_dbfs", {}).page, "name"), (Words{"figure", "bound", "loud"}));
  keep(logbook, with_bound("snr_db", 90, false), "high", "2026-01-01");
  keep(logbook, with_bound("snr_db", 130, true), "at most", "2026-01-02");
  const Page page = ranking(logbook, "snr_db", {}).page;
  EXPECT_EQ(column(page, "place"), (Words{"1", "-"}));
  EXPECT_HAS(page_text(page), "at most cannot be placed");
}

TEST_P(Histories, TellsAChangeFromNone) {
  Logbook logbook = open();
  keep(logbook, noise_sheet_of("a.wav", {-90}), "", "2026-03-02", {{"unit", "heron"}});
  keep(logbook, noise_sheet_of("a.wav", {-90.05}), "", "2026-04-02", {{"unit", "heron"}});
  EXPECT_HAS(page_text(trend(logbook, {"noise_dbfs"}, {}).page),
             "noise floor: unchanged within 0.14 dB since 2026-03-02, -90.05 ±0.10 dBFS");
  keep(logbook, noise_sheet_of("a.wav", {-89.2}), "", "2026-06-02", {{"unit", "heron"}});
  keep(logbook, noise_sheet_of("a.wav", {-89.15}), "", "2026-07-02", {{"unit", "heron"}});
  keep(logbook, noise_sheet_of("a.wav", {-20}), "", "2026-06-05", {{"unit", "curlew"}});
  const History history = trend(logbook, {"noise_dbfs"}, {.filter = {.tags = {{"unit", "heron"}}}});
  EXPECT_HAS(page_text(history.page), "noise floor: +0.85 ±0.14 dB since 2026-03-02");
  EXPECT_HAS(page_text(history.page), "it jumped by +0.85 ±0.14 dB between 2026-04-02 and 2026-06-02");
  EXPECT_EQ(column(history.page, "when"), (Words{"2026-03-02", "2026-04-02", "2026-06-02", "2026-07-02"}));
  const Page few = trend(logbook, {"noise_dbfs"}, {.filter = {.tags = {{"unit", "heron"}}}, .most = 2}).page;
  EXPECT_EQ(column(few, "when"), (Words{"2026-03-02", "2026-07-02"}));
  EXPECT_HAS(page_text(few), "the first and the latest 1 of 4 are shown");
  const Curve& curve = history.drawn.at(0).curves.at(0);
  EXPECT_EQ(curve.x[3] - curve.x[0], 122 * 86400.0);
  EXPECT_EQ(history.drawn.at(0).curves.at(1).y[3], 0.1);
  const std::string picture = draw_picture(history.drawn, history.picture, {.format = PlotFormat::svg});
  EXPECT_HAS(picture, ">2026-0");
}

TEST_P(Histories, ComparesReadingByReading) {
  Logbook logbook = open();
  const auto sheet = [](double noise, double snr) {
    Sheet s = noise_sheet_of("a.wav", {noise});
    Reading other = s.readings[0];
    other.name = "snr_db";
    other.value = snr;
    other.unit = "dB";
    s.readings.push_back(other);
    s.readings.push_back({.name = "verdict", .text = noise < -89 ? "noise" : "hum"});
    return s;
  };
  const auto a = keep(logbook, sheet(-90, 80), "before", "2026-03-02");
  const auto b = keep(logbook, sheet(-88, 80.05), "after", "2026-04-02");
  const std::string told = page_text(comparison(logbook, "before", "after", false).page);
  EXPECT_HAS(told,
             "2 of 3 readings changed beyond their uncertainty: noise floor +2.00 ±0.14 dB; verdict hum");
  EXPECT_HAS(told, "1 reading did not change; --all shows them");
  EXPECT_EQ(column(comparison(logbook, std::to_string(a), "2026-04-02", true).page, "reading"),
            (Words{"noise_dbfs", "verdict", "snr_db"}));
  EXPECT_HAS(page_text(comparison(logbook, std::to_string(a), std::to_string(a), false).page),
             "Nothing changed beyond its uncertainty: 3 readings");
  keep(logbook, noise_sheet_of("a.wav", {-70}, 0.1, 96000), "other rate", "2026-04-03");
  EXPECT_HAS(page_text(comparison(logbook, "before", "other rate", false).page),
             "without a counterpart under the same conditions: sample_rate_hz 96000 (not 48000)");
  for (const char* what : {"befor", "99", "2020-01-01"})
    EXPECT_THROW((void)comparison(logbook, what, "after", false), Error) << what;
  EXPECT_EQ(b, a + 1);
}

TEST_P(Histories, GivesALimitItsValue) {
  Logbook logbook = open();
  keep(logbook, noise_sheet_of("a.wav", {-90, -80}), "good-2", "2026-03-02", {{"unit", "heron"}});
  keep(logbook, noise_sheet_of("a.wav", {-95, -85}), "best one", "2026-03-03");
  keep(logbook, noise_sheet_of("a.wav", {-70, -60}), "bad", "2026-03-04");
  keep(logbook, noise_sheet_of("a.wav", {-10, -10}, 0.1, 96000), "other", "2026-03-05");
  const Sheet sheet = noise_sheet_of("now.wav", {-91, -79});
  const auto value = [&](const std::string& past, std::size_t reading, const EntryFilter& filter = {}) {
    return past_value(logbook, filter, parse_limit("noise_dbfs<=" + past), sheet, sheet.readings[reading])
        .value;
  };
  EXPECT_EQ(value("last", 0), -70);
  EXPECT_EQ(value("last", 1), -60);
  EXPECT_EQ(value("first", 0), -90);
  EXPECT_EQ(value("best", 1), -85);
  EXPECT_EQ(value("best+0.5", 1), -84.5);
  EXPECT_EQ(value("good-2", 0), -90);
  EXPECT_EQ(value("good-2 - 1", 0), -91);
  EXPECT_EQ(value("best one-1", 0), -96);
  EXPECT_EQ(value("last", 0, {.tags = {{"unit", "heron"}}}), -90);
  const auto results = check_limit(
      parse_limit("noise_dbfs<=first+0.5"), sheet,
      [&](const Limit& l, const Sheet& s, const Reading& r) { return past_value(logbook, {}, l, s, r); });
  ASSERT_EQ(results.size(), 2u);
  EXPECT_EQ(results[0].outcome, LimitResult::Outcome::kept);
  EXPECT_EQ(results[1].outcome, LimitResult::Outcome::broken);
  EXPECT_HAS(results[1].past, "-80 dBFS in entry 1, 2026-03-02");
  EXPECT_HAS(message_of(ErrorCode::bad_input, [&] { (void)value("goo-2", 0); }), "no label in the logbook");
  const Sheet slow = noise_sheet_of("now.wav", {-91}, 0.1, 44100);
  EXPECT_HAS(
      message_of(
          ErrorCode::bad_input,
          [&] { (void)past_value(logbook, {}, parse_limit("noise_dbfs<=last"), slow, slow.readings[0]); }),
      "holds no noise_dbfs of noise under these conditions; the latest has sample_rate_hz 96000 (not 44100): "
      "--keep");
}

// What the same reading was found at and how it was found is no condition of it; levels may be half a decibel
// off.
TEST_P(Histories, ConditionsThatAreNearAreTheSame) {
  Logbook logbook = open();
  const auto at = [](double level, double hz, const char* window) {
    Sheet sheet = noise_sheet_of("a.wav", {-90});
    sheet.measurement = "harmonics";
    sheet.readings[0].name = "thd_db";
    sheet.readings[0].conditions = {
        {"frequency_hz", hz}, {"level_dbfs", level}, {"window", std::string(window)}};
    return sheet;
  };
  keep(logbook, at(-10, 997, "Kaiser 38"), "a", "2026-01-01");
  keep(logbook, at(-10.4, 1000, "joint fit"), "b", "2026-01-02");
  keep(logbook, at(-12, 997, "Kaiser 38"), "c", "2026-01-03");
  keep(logbook, at(-10, 440, "Kaiser 38"), "d", "2025-01-01");
  const Page page = ranking(logbook, "thd_db", {.filter = {.until_s = parse("2026-01-03")}}).page;
  EXPECT_EQ(column(page, "name"), (Words{"a", "b"}));
  EXPECT_EQ(column(page, "differs", 1), (Words{"frequency_hz 440 (not 997)"}));
}

// Which condition is one of the reading, and which was found out with it.
TEST_P(Histories, WhatIsMeaninglessWithoutAConditionStandsApart) {
  Logbook logbook = open();
  const auto together = [&](const char* measurement, const char* reading, const Conditions& one,
                            const Conditions& other) {
    const auto of = [&](double value, const Conditions& conditions) {
      Sheet sheet = noise_sheet_of("a.wav", {value});
      sheet.measurement = measurement;
      sheet.readings[0].name = reading;
      sheet.readings[0].conditions = conditions;
      return sheet;
    };
    static int round = 0;
    const std::string label = "round " + std::to_string(++round);
    keep(logbook, of(-90, one), label, "2026-01-01");
    keep(logbook, of(-80, other), label, "2026-01-02");
    return ranking(logbook, reading, {.filter = {.label = label}, .better = Better::lower})
               .page.tables[0]
               .rows.size() == 2;
  };
  const auto hz = [](const char* name, double value) { return Conditions{{name, value}}; };
  const auto word = [](const char* name, const char* value) {
    return Conditions{{name, std::string(value)}};
  };
  const auto whole = [](const char* name, std::int64_t value) { return Conditions{{name, value}}; };
  EXPECT_TRUE(together("aliasing", "worst_alias_dbc", whole("order", 3), whole("order", 9)));
  EXPECT_TRUE(together("aliasing", "worst_alias_dbc", hz("tone_hz", 7000), hz("tone_hz", 9000)));
  EXPECT_FALSE(together("aliasing", "alias_dbc", whole("order", 3), whole("order", 9)));
  EXPECT_TRUE(together("aliasing", "alias_dbc", hz("at_hz", 3000), hz("at_hz", 9000)));
  EXPECT_FALSE(together("response", "crosstalk_db", hz("at_hz", 1000), hz("at_hz", 10000)));
  EXPECT_TRUE(together("response", "crosstalk_max_db", hz("at_hz", 1000), hz("at_hz", 10000)));
  EXPECT_FALSE(together("spectrum", "line_dbfs", hz("at_hz", 50), hz("at_hz", 100)));
  EXPECT_FALSE(together("clipping", "clipping_point_dbfs", hz("thd_percent", 1), hz("thd_percent", 3)));
  EXPECT_FALSE(
      together("clipping", "clipping_point_dbfs", hz("compression_db", 0.1), hz("compression_db", 1)));
  EXPECT_FALSE(together("takes", "gain_db", word("matched_by", "rms"), word("matched_by", "loudness")));
  EXPECT_FALSE(together("null", "null_depth_db", word("reference", "a.wav"), word("reference", "b.wav")));
  EXPECT_TRUE(together("latency", "latency_samples", word("reference", "a.wav"), word("reference", "b.wav")));
  EXPECT_FALSE(together("noise", "noise_dbfs", {}, Conditions{{"despite_faults", true}}));
  EXPECT_TRUE(together("noise", "noise_dbu", hz("full_scale_vrms", 2.45), hz("full_scale_vrms", 0.775)));
  EXPECT_TRUE(together("noise", "noise_dbfs", hz("from_s", 1), hz("from_s", 4)));
}

TEST_P(Histories, OtherArithmeticIsSaid) {
  Logbook logbook = open();
  Sheet sheet = noise_sheet_of("a.wav", {-90});
  sheet.context = SheetContext{.version = "0.1.0", .arithmetic = 1};
  keep(logbook, sheet, "a", "2026-01-01");
  sheet.context = SheetContext{.version = "0.2.0", .arithmetic = 2};
  keep(logbook, sheet, "b", "2026-01-02");
  EXPECT_HAS(page_text(ranking(logbook, "noise_dbfs", {}).page),
             "measured by programs that do not compute all figures alike: wavicon 0.1.0 (1), 0.2.0 (2)");
}

}  // namespace
}  // namespace wavicon::history_test
