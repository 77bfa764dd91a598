// SPDX-License-Identifier: MIT
#include "wavicon/sheet/limit.hpp"

#include "support.hpp"

namespace wavicon::limit_test {
namespace {

using testing::message_of;
using Outcome = LimitResult::Outcome;

Sheet sheet_with(std::optional<double> value, bool bound) {
  Sheet sheet;
  sheet.measurement = "harmonics";
  sheet.readings = {{"thd_db", 0, value, "dB", std::nullopt, bound, {}},
                    {"sinad_db", 0, 90.0, "dB", std::nullopt, false, {}}};
  return sheet;
}

TEST(Limit, IsReadInEveryForm) {
  const Limit limit = parse_limit("thd_db<-120");
  EXPECT_EQ(limit.name, "thd_db");
  EXPECT_EQ(limit.value, -120);
  EXPECT_EQ(static_cast<int>(limit.relation), static_cast<int>(Limit::Relation::less));
  EXPECT_EQ(static_cast<int>(parse_limit(" sinad_db >= 90.5 ").relation),
            static_cast<int>(Limit::Relation::greater_equal));
  EXPECT_EQ(static_cast<int>(parse_limit("a<=1e3").relation), static_cast<int>(Limit::Relation::less_equal));
  EXPECT_EQ(static_cast<int>(parse_limit("a>1").relation), static_cast<int>(Limit::Relation::greater));
}

TEST(Limit, RefusesWhatIsNone) {
  for (const char* text :
       {"", "thd_db", "<3", "thd_db<", "thd_db<+abc", "thd_db<3 dB", "thd_db=3", "thd_db<3dB", "thd_db<nan"})
    EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)parse_limit(text); })
                  .find("for example 'thd_db<-80'"),
              std::string::npos)
        << text;
}

TEST(Limit, StandsForAValueThatWasKept) {
  const Limit limit = parse_limit("thd_db <= last + 0.3");
  EXPECT_EQ(limit.past, "last + 0.3");
  EXPECT_TRUE(parse_limit("thd_db<-80").past.empty());
  const Sheet sheet = sheet_with(-60.0, false);
  EXPECT_NE(
      message_of(ErrorCode::bad_argument, [&] { (void)check_limit(limit, sheet); }).find("is no number"),
      std::string::npos);
  const auto results = check_limit(limit, sheet, [](const Limit&, const Sheet&, const Reading& reading) {
    return PastValue{*reading.value - 1, "of entry 7"};
  });
  EXPECT_EQ(results.at(0).outcome, Outcome::broken);
  EXPECT_EQ(results.at(0).bound, -61);
  EXPECT_EQ(results.at(0).past, "of entry 7");
}

TEST(Limit, ComparesEveryChannel) {
  Sheet sheet = sheet_with(-60.0, false);
  sheet.readings.push_back({"thd_db", 1, -90.0, "dB", std::nullopt, false, {}});
  const auto results = check_limit(parse_limit("thd_db<-80"), sheet);
  ASSERT_EQ(results.size(), 2U);
  EXPECT_EQ(results[0].outcome, Outcome::broken);
  EXPECT_EQ(results[1].outcome, Outcome::kept);
  EXPECT_EQ(check_limit(parse_limit("thd_db<=-60"), sheet)[0].outcome, Outcome::kept);
  EXPECT_EQ(check_limit(parse_limit("thd_db<-60"), sheet)[0].outcome, Outcome::broken);
  EXPECT_EQ(check_limit(parse_limit("sinad_db>89"), sheet)[0].outcome, Outcome::kept);
}

TEST(Limit, ABoundProvesOnlyWhatLiesAboveIt) {
  const Sheet bounded = sheet_with(-130.0, true);
  EXPECT_EQ(check_limit(parse_limit("thd_db<-120"), bounded)[0].outcome, Outcome::kept);
  EXPECT_EQ(check_limit(parse_limit("thd_db<-140"), bounded)[0].outcome, Outcome::undecided);
  EXPECT_EQ(check_limit(parse_limit("thd_db>-140"), bounded)[0].outcome, Outcome::undecided);
  EXPECT_EQ(check_limit(parse_limit("thd_db>-120"), bounded)[0].outcome, Outcome::broken);
  EXPECT_EQ(check_limit(parse_limit("thd_db<0"), sheet_with(std::nullopt, false))[0].outcome,
            Outcome::undecided);
}

TEST(Limit, UnknownNameIsAnErrorWithTheNearest) {
  const auto text = message_of(ErrorCode::bad_argument,
                               [] { (void)check_limit(parse_limit("tdh_db<-80"), sheet_with(1, false)); });
  EXPECT_NE(text.find("did you mean 'thd_db'"), std::string::npos) << text;
}

TEST(Sheet, FindsReadingsAndConditions) {
  Sheet sheet = sheet_with(-60.0, false);
  sheet.readings[0].conditions = {{"level_dbfs", -13.5}};
  EXPECT_EQ(find_reading(sheet, "thd_db", 1), nullptr);
  ASSERT_NE(find_reading(sheet, "thd_db", 0), nullptr);
  EXPECT_EQ(std::get<double>(*find_condition(sheet.readings[0], "level_dbfs")), -13.5);
  EXPECT_EQ(find_condition(sheet.readings[0], "nothing"), nullptr);
  EXPECT_EQ(name_of(Severity::note) + name_of(Severity::warning) + name_of(Severity::fault),
            "notewarningfault");
}

}  // namespace
}  // namespace wavicon::limit_test
