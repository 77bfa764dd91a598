// SPDX-License-Identifier: MIT
// Readings are made from their entries, and not without what they owe.

#include <set>
#include <stdexcept>

#include "support.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon::catalogue_test {
namespace {

const ReadingTable& table() {
  static const ReadingTable kTable = {
      "trial",
      {{.name = "level_dbfs",
        .unit = "dBFS",
        .words = "level",
        .floor = Owes::always,
        .conditions = {"bandwidth_hz"}},
       {.name = "h{}_dbc", .unit = "dBc", .words = "harmonic", .uncertainty = Owes::always},
       {.name = "verdict", .words = "verdict", .uncertainty = Owes::no}}};
  return kTable;
}

TEST(Catalogue, FindsAnEntryByNameOrByItsPattern) {
  EXPECT_EQ(find_entry(table(), "level_dbfs")->unit, "dBFS");
  for (const char* name : {"h2_dbc", "h10_dbc", "h123_dbc"}) {
    ASSERT_NE(find_entry(table(), name), nullptr) << name;
    EXPECT_EQ(find_entry(table(), name)->words, "harmonic");
  }
  for (const char* name : {"h_dbc", "hx_dbc", "h2_db", "level", "level_dbfs2", ""})
    EXPECT_EQ(find_entry(table(), name), nullptr) << name;
}

TEST(Catalogue, AReadingTakesUnitAndEntryFromIt) {
  const Reading r = make_reading(table(), "h3_dbc", 1, -40.0);
  EXPECT_EQ(r.name, "h3_dbc");
  EXPECT_EQ(r.unit, "dBc");
  EXPECT_EQ(r.entry, &table().entries[1]);
  EXPECT_THROW((void)make_reading(table(), "h3_db", 1, -40.0), std::logic_error);
}

TEST(Catalogue, WhatIsOwedIsNamed) {
  Reading r = make_reading(table(), "level_dbfs", 0, -20.0);
  EXPECT_EQ(missing_of(r), (std::vector<std::string>{"condition bandwidth_hz", "floor"}));
  r.conditions.emplace_back("bandwidth_hz", std::vector<double>{20, 20000});
  r.floor = -140;
  EXPECT_TRUE(missing_of(r).empty());
  EXPECT_EQ(missing_of(make_reading(table(), "h2_dbc", 0, -20.0)), (std::vector<std::string>{"uncertainty"}));
  // What does not exist has neither floor nor uncertainty, but its conditions.
  EXPECT_EQ(missing_of(make_reading(table(), "level_dbfs", 0, std::nullopt)),
            (std::vector<std::string>{"condition bandwidth_hz"}));
  EXPECT_TRUE(missing_of(Reading{}).empty());
}

TEST(SheetBuilder, RefusesAReadingWithoutWhatItOwes) {
  SheetBuilder lacking(table(), CaptureInfo{});
  lacking.add("level_dbfs", 0, -20.0).floor = -140;
  EXPECT_THROW((void)lacking.finish(), std::logic_error);
  SheetBuilder whole(table(), CaptureInfo{.file = "x.wav"});
  whole.add("level_dbfs", 0, -20.0, {{"bandwidth_hz", std::vector<double>{20, 20000}}}).floor = -140;
  whole.add("verdict", std::nullopt, std::nullopt).text = "good";
  whole.say(Severity::note, FindingCode::result, "it is good");
  whole.draw({"curve", 0, "Hz", "dB", {1}, {2}});
  const Sheet sheet = whole.finish();
  EXPECT_EQ(sheet.measurement, "trial");
  EXPECT_EQ(sheet.capture.file, "x.wav");
  EXPECT_EQ(sheet.readings.size(), 2U);
  EXPECT_EQ(sheet.findings.front().code, FindingCode::result);
  EXPECT_EQ(sheet.curves.size(), 1U);
}

TEST(FindingCodes, EachHasAWordOfItsOwn) {
  std::set<std::string_view> words;
  for (const FindingCode code : all_finding_codes()) {
    EXPECT_TRUE(words.insert(word_of(code)).second) << word_of(code);
    EXPECT_EQ(finding_code(word_of(code)), code);
  }
  EXPECT_GT(words.size(), 40U);
  EXPECT_EQ(word_of(FindingCode::dropout), "dropout");
  EXPECT_EQ(word_of(FindingCode::wrong_rate), "wrong_rate");
  EXPECT_FALSE(finding_code("dropouts"));
}

TEST(Explanation, SaysWhatAReadingIs) {
  const std::string text = explanation({.name = "x_db",
                                        .unit = "dB",
                                        .words = "x",
                                        .definition = "The x.",
                                        .source = "a standard",
                                        .misleads = "when soft",
                                        .gain = GainLaw::adds,
                                        .conditions = {"bandwidth_hz"}},
                                       "trial");
  for (const char* part :
       {"x_db (trial): x, in dB", "The x.", "Source: a standard", "Misleads: when soft",
        "1 dB of gain moves it by 1 dB", "Uncertainty: none", "Conditions: bandwidth_hz"})
    EXPECT_HAS(text, part);
}

}  // namespace
}  // namespace wavicon::catalogue_test
