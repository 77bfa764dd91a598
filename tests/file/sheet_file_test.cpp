// SPDX-License-Identifier: MIT
#include "wavicon/file/sheet_file.hpp"

#include <algorithm>

#include "support.hpp"

namespace wavicon {
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

}  // namespace
}  // namespace wavicon
