// SPDX-License-Identifier: MIT
#pragma once
// The program as a user meets it: commands, what they print, exit statuses, files left behind.

#include <algorithm>
#include <nlohmann/json.hpp>
#include <string>

#include "support.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::testing {

using nlohmann::json;

class Program : public ::testing::Test {
 protected:
  TemporaryFolder folder_;
  // The same command gives the same sheet.
  std::string clock_ = "SOURCE_DATE_EPOCH=1788000000 ";

  // Arguments after the program's name; the program runs in the test's folder and sees no plugins of the
  // system.
  Ran wavicon(const std::string& arguments) const {
    return testing::run("cd '" + folder_.path().string() +
                        "' && LV2_PATH=/nowhere WAVICON_LOGBOOK=logbook.sqlite " + clock_ + "'" +
                        WAVICON_PROGRAM + "' " + arguments);
  }
  std::string good(const std::string& arguments) const {
    const Ran ran = wavicon(arguments);
    EXPECT_EQ(ran.status, 0) << arguments << "\n" << ran.err;
    return ran.out;
  }
  // One line on standard error, nothing on standard output, no new file.
  std::string bad(int status, const std::string& arguments) const {
    const auto before = folder_.names();
    const Ran ran = wavicon(arguments);
    EXPECT_EQ(ran.status, status) << arguments << "\n" << ran.out << ran.err;
    EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << arguments << "\n" << ran.err;
    EXPECT_EQ(ran.err.rfind("wavicon: ", 0), 0U) << ran.err;
    EXPECT_EQ(ran.out, "") << arguments;
    EXPECT_EQ(folder_.names().size(), before.size()) << arguments;
    return ran.err;
  }
  json readings(const std::string& arguments) const {
    const json sheet = json::parse(good("harmonics --json " + arguments));
    json by_name;
    for (const json& reading : sheet["readings"]) by_name[reading["name"].get<std::string>()] = reading;
    return by_name;
  }
  // The first reading of that name in a sheet.
  static const json& reading(const json& sheet, const std::string& name) {
    for (const json& r : sheet["readings"])
      if (r["name"] == name) return r;
    throw std::out_of_range(name);
  }
  std::string file(const std::string& name) const { return folder_.file(name); }
  // Samples alone: captures keep what they went through, too.
  std::vector<std::vector<float>> sound(const std::string& name) const { return read_planar(file(name)); }
};

}  // namespace wavicon::testing
