// SPDX-License-Identifier: MIT
#include "wavicon/file/sheet_file.hpp"

#include <algorithm>

#include "support.hpp"

namespace wavicon::sheet_file_test {
namespace {

Sheet example() {
  Sheet sheet{"harmonics", {"booth \"2\".wav", "24-bit", 48000, 2, 96000}, {}, {}, {}};
  sheet.readings = {{"thd_db",
                     1,
                     -61.23,
                     "dB",
                     -268.0,
                     true,
                     {{"frequency_hz", 743.0},
                      {"bandwidth_hz", std::vector<double>{20, 20000}},
                      {"folded", true},
                      {"window", std::string("Kaiser, 38")},
                      {"window_count", std::int64_t{3}}}},
                    {"h2_dbc", 0, std::nullopt, "dBc", NAN, false, {}}};
  sheet.curves = {{"spectrum", 0, "Hz", "dBFS", {10, 20.123456}, {-100.00049, -90}}};
  sheet.findings = {{Severity::warning, FindingCode::dropout, "a \"quoted\" word", 0},
                    {Severity::note, FindingCode::result, "all of it", std::nullopt}};
  return sheet;
}

TEST(SheetJson, HoldsEverythingInTheFormOfTheManual) {
  const std::string text = sheets_to_json({example()});
  EXPECT_EQ(text, R"({
  "format": "wavicon-sheet",
  "version": 1,
  "measurement": "harmonics",
  "capture": {"file":"booth \"2\".wav","format":"24-bit","sample_rate_hz":48000.0,"channels":2,"frames":96000},
  "readings": [
    {"name":"thd_db","channel":2,"value":-61.23,"unit":"dB","floor":-268.0,"bound":true,"conditions":{"frequency_hz":743.0,"bandwidth_hz":[20.0,20000.0],"folded":true,"window":"Kaiser, 38","window_count":3}},
    {"name":"h2_dbc","channel":1,"value":null,"unit":"dBc","floor":null,"conditions":{}}
  ],
  "curves": [
    {"name":"spectrum","channel":1,"x_unit":"Hz","y_unit":"dBFS","x":[10.0,20.1235],"y":[-100.0,-90.0]}
  ],
  "findings": [
    {"severity":"warning","code":"dropout","channel":1,"text":"a \"quoted\" word"},
    {"severity":"note","code":"result","text":"all of it"}
  ]
}
)");
}

TEST(SheetJson, SeveralAreAnArrayAndNoneIsAnEmptyOne) {
  const std::string two = sheets_to_json({example(), example()});
  EXPECT_EQ(two.front(), '[');
  EXPECT_EQ(sheets_to_json({}), "[\n]\n");
  EXPECT_EQ(std::count(two.begin(), two.end(), '{'),
            2 * std::count(two.begin() + 1, two.begin() + static_cast<long>(two.size() / 2), '{'));
}

TEST(SheetJson, AnUncertaintyStandsBesideItsValue) {
  Sheet sheet = example();
  sheet.readings[0].bound = false;
  sheet.readings[0].uncertainty = 0.37;
  EXPECT_HAS(sheets_to_json({sheet}), R"("value":-61.23,"unit":"dB","floor":-268.0,"uncertainty":0.37,)");
  EXPECT_HAS(sheets_to_csv({sheet}), ",-61.23,dB,-268,0.37,false,");
}

TEST(SheetCsv, HasALinePerReading) {
  const std::string text = sheets_to_csv({example()});
  EXPECT_EQ(text,
            "file,measurement,name,channel,value,unit,floor,uncertainty,bound,conditions\n"
            "\"booth \"\"2\"\".wav\",harmonics,thd_db,2,-61.23,dB,-268,,true,\"frequency_hz=743.0; "
            "bandwidth_hz=[20.0,20000.0]; folded=true; "
            "window=Kaiser, 38; window_count=3\"\n"
            "\"booth \"\"2\"\".wav\",harmonics,h2_dbc,1,,dBc,,,false,\n");
}

Sheet with_everything() {
  Sheet sheet = example();
  sheet.readings[0].uncertainty = 0.0123456;
  Reading word{"verdict", std::nullopt, std::nullopt, ""};
  word.text = "identical";
  sheet.readings.push_back(word);
  sheet.maps = {{"levels", 1, "s", "Hz", "dBFS", {0, 1}, {100, 200, 300}, {-1, -2, -3, -4, -5, -6}}};
  sheet.context = SheetContext{.version = "0.1.0",
                               .arithmetic = 3,
                               .made_s = 1772409600,
                               .options = {{"tone_hz", "997"}},
                               .stimulus = "sha256:12",
                               .recipe = "rate = 48000\n",
                               .chain = {"sim:tern?drive=12 (wavicon 0.1.0)", "lv2:urn:x (sha256:ab)"},
                               .machine = "booth-2"};
  return sheet;
}

TEST(SheetFromJson, GivesBackWhatWasWritten) {
  Sheet views = with_everything();
  views.channel_names = {"mid", "side"};
  const std::vector<Sheet> sheets = {with_everything(), views};
  const std::string text = sheets_to_json(sheets);
  const auto back = sheets_from_json(text, "a.json");
  ASSERT_EQ(back.size(), 2u);
  EXPECT_EQ(sheets_to_json(back), text);
  EXPECT_EQ(back[0].readings[0].channel, 1);
  EXPECT_EQ(back[0].readings[2].text, "identical");
  EXPECT_FALSE(back[0].readings[1].value);
  EXPECT_EQ(std::get<std::int64_t>(*find_condition(back[0].readings[0], "window_count")), 3);
  EXPECT_EQ(back[0].findings[0].code, FindingCode::dropout);
  EXPECT_EQ(back[0].context->made_s, 1772409600);
  EXPECT_EQ(back[1].channel_names, (std::vector<std::string>{"side", "mid"}));  // as they come in the text
}

TEST(SheetFromJson, OfOneSheet) {
  EXPECT_EQ(sheet_from_json(sheets_to_json({example()})).measurement, "harmonics");
  EXPECT_HAS(testing::message_of(ErrorCode::bad_input,
                                 [] {
                                   (void)sheet_from_json(sheets_to_json({example(), example()}), "a.json");
                                 }),
             "a.json: holds 2 sheets, not one");
}

// Before there were codes, uncertainties and contexts.
TEST(SheetFromJson, ReadsWhatOlderProgramsWrote) {
  const auto sheets = sheets_from_json(
      R"({"format":"wavicon-sheet","version":1,"measurement":"noise",
          "capture":{"file":"a.wav","sample_rate_hz":44100,"channels":1,"frames":5},
          "readings":[{"name":"noise_dbfs","channel":1,"value":-90,"unit":"dBFS","floor":null,"conditions":{}}],
          "curves":[],"findings":[{"severity":"fault","text":"a dropout"}]})",
      "old.json");
  EXPECT_EQ(*sheets[0].readings[0].value, -90);
  EXPECT_FALSE(sheets[0].context);
  EXPECT_EQ(sheets[0].findings[0].severity, Severity::fault);
  EXPECT_EQ(sheets[0].findings[0].code, FindingCode::detail);
}

TEST(SheetFromJson, SaysWhereItIsBroken) {
  const std::string whole = sheets_to_json({with_everything()});
  const auto with = [&](const std::string& part, const std::string& other) {
    std::string text = whole;
    const auto at = text.find(part);
    EXPECT_NE(at, std::string::npos) << part;
    return text.replace(at, part.size(), other);
  };
  const struct {
    std::string text, told;
  } cases[] = {
      {"", "is empty"},
      {"{", "is no JSON (line 1)"},
      {"[1]", "a.json, sheet 1: is no sheet"},
      {"[]", "holds no sheet"},
      {"{}", "is no sheet"},
      {with("wavicon-sheet", "another"), "is no sheet"},
      {with("\"version\": 1", "\"version\": 2"), "version 2; this program knows version 1"},
      {with("\"version\": 1", "\"version\": \"1\""), "\"version\" is no whole number"},
      {with("-61.23", "true"), "\"value\" of number 1 of \"readings\" is no number"},
      {with("-61.23", "1e999"), "a number that is too large"},
      {with("\"channel\":2", "\"channel\":0"), "\"channel\" of number 1 of \"readings\""},
      {with("\"uncertainty\":0.01", "\"uncertainty\":-0.01"), "is below 0"},
      {with("\"bound\":true", "\"bound\":3"), "neither true nor false"},
      {with("\"x\":[10.0,", "\"x\":["), "has 1 values of x and 2 of y"},
      {with("\"z\":[-1.0,", "\"z\":["), "has 5 levels and not 2 × 3"},
      {with("\"warning\"", "\"grave\""), "neither note, warning nor fault"},
      {with("\"readings\"", "\"reading\""), "has no \"readings\""},
      {with("2026-03-02", "2026-13-02"), "\"made_at\" of context is no time"},
      {with("[\"sim:tern", "[1,\"sim:tern"), "a unit of context's chain is no text"},
  };
  for (const auto& [text, told] : cases)
    EXPECT_HAS(
        testing::message_of(ErrorCode::bad_input, [&, &of = text] { (void)sheets_from_json(of, "a.json"); }),
        told);
  // Cut anywhere it is refused, and never read as something else.
  for (std::size_t cut = 1; cut + 2 < whole.size(); cut += 7)
    EXPECT_THROW((void)sheets_from_json(whole.substr(0, cut), "a.json"), Error) << cut;
}

TEST(Times, AreWrittenAndReadBack) {
  for (const std::int64_t s : {0LL, 951782400LL, 1772409600LL, 4102444799LL})
    EXPECT_EQ(parse_time(time_text(s)), s);
  EXPECT_EQ(time_text(1772409600), "2026-03-02T00:00:00Z");
  EXPECT_EQ(parse_time("2026-03-02"), 1772409600);
  EXPECT_EQ(parse_time("2026-03-02T14:30"), 1772409600 + 14 * 3600 + 30 * 60);
  for (const char* text :
       {"", "2026", "2026-02-30", "2026-03-02T25:00", "2026-03-02T14:30:00", "2026-03-02 ", "today"})
    EXPECT_THROW((void)parse_time(text), Error) << text;
}

TEST(Pages, AsJsonAndCsv) {
  Reading figure{"noise_dbfs", 0, -90.25, "dBFS"};
  figure.uncertainty = 0.5;
  const Page page{.answer = {{std::string("it is "), figure}},
                  .tables = {{.key = "places",
                              .columns = {{"name", "name"}, {"value", "noise"}, {"change", "change"}},
                              .rows = {{std::string("a, b"), figure, FigureChange{0.5, 0.1, "dB", nullptr}},
                                       {std::string("c"), std::string(), std::string()}}}},
                  .remarks = {"one"}};
  EXPECT_EQ(page_to_json(page),
            "{\"answer\":[\"it is -90.25 dBFS\"],\"places\":[{\"name\":\"a, b\",\"value\":{\"value\":-90.25,"
            "\"unit\":\"dBFS\",\"uncertainty\":0.5},\"change\":{\"change\":0.5,\"unit\":\"dB\","
            "\"uncertainty\":0.1}},"
            "{\"name\":\"c\",\"value\":\"\",\"change\":\"\"}],\"remarks\":[\"one\"]}\n");
  EXPECT_EQ(page_to_csv(page),
            "name,value,value_unit,value_uncertainty,change,change_unit,change_uncertainty\n"
            "\"a, b\",-90.25,dBFS,0.5,0.5,dB,0.1\nc,,,,,,\n");
}

}  // namespace
}  // namespace wavicon::sheet_file_test
