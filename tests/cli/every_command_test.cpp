// SPDX-License-Identifier: MIT
// What every measuring command owes its user, whatever it measures.

#include <filesystem>
#include <fstream>
#include <regex>
#include <sstream>

#include "program.hpp"

namespace wavicon::every_command_test {
namespace {

using namespace testing;

struct Command {
  std::string name;
  std::string files;
};

std::size_t in_letters(const std::string& line) {
  return static_cast<std::size_t>(
      std::count_if(line.begin(), line.end(), [](char c) { return (c & 0xC0) != 0x80; }));
}

class EveryCommand : public Program {
 protected:
  // A stimulus with every part that some command wants, and what came back.
  void SetUp() override {
    write_text(file("all.toml"), R"(name = "all"
[[part]]
kind = "tone"
name = "tone"
seconds = 1.5
silence_before_s = 0.3
[[part]]
kind = "silence"
name = "hush"
seconds = 2.0
[[part]]
kind = "sweep"
name = "sweep"
seconds = 2.0
level_dbfs = -12.0
silence_after_s = 0.6
[[part]]
kind = "staircase"
name = "stairs"
levels_dbfs = [-50.0, -44.0, -38.0, -32.0, -26.0, -20.0, -14.0, -8.0]
step_s = 0.4
[[part]]
kind = "block"
name = "block"
after_s = 0.6
)");
    good("make --recipe all.toml -o a.wav --quiet");
    good("feed a.wav --through 'sim:heron?noise=-100' -o b.wav --quiet");
  }
  const std::vector<Command> commands_ = {{"health", "b.wav"},
                                          {"levels", "b.wav"},
                                          {"spectrum", "b.wav --part tone"},
                                          {"spectrogram", "b.wav"},
                                          {"noise", "b.wav --part hush"},
                                          {"harmonics", "b.wav --part tone"},
                                          {"aliasing", "b.wav"},
                                          {"null", "a.wav b.wav"},
                                          {"latency", "a.wav b.wav"},
                                          {"response", "a.wav b.wav"},
                                          {"dynamics", "a.wav b.wav"},
                                          {"clipping", "b.wav"},
                                          {"pair", "a.wav b.wav"}};

  static void expect_sheet(const json& sheet, const std::string& name) {
    EXPECT_EQ(sheet["format"], "wavicon-sheet") << name;
    EXPECT_EQ(sheet["version"], 1) << name;
    EXPECT_TRUE(sheet["capture"]["sample_rate_hz"].is_number()) << name;
    ASSERT_FALSE(sheet["readings"].empty()) << name;
    for (const json& r : sheet["readings"]) {
      EXPECT_TRUE(r["name"].is_string() && r["unit"].is_string()) << name;
      EXPECT_TRUE(r["value"].is_number() || r["value"].is_string() || r["value"].is_null())
          << name << ": " << r["name"];
      if (r.contains("channel") && !r["channel"].is_null()) {
        EXPECT_GE(r["channel"].get<int>(), 1) << name;
      }
    }
    for (const json& f : sheet["findings"])
      EXPECT_TRUE(f["severity"] == "note" || f["severity"] == "warning" || f["severity"] == "fault") << name;
  }
};

TEST_F(EveryCommand, PrintsAndWritesTheSameSheet) {
  for (const Command& command : commands_) {
    const std::string call = command.name + " " + command.files;
    const std::string printed = good(call + " --json --sheet s.json --csv r.csv");
    ASSERT_FALSE(printed.empty()) << call;
    EXPECT_EQ(printed.find("nan"), std::string::npos) << call;
    EXPECT_EQ(printed, read_text(file("s.json"))) << call;
    const json sheet = json::parse(printed);
    expect_sheet(sheet.is_array() ? sheet[0] : sheet, call);
    const std::string csv = read_text(file("r.csv"));
    EXPECT_GT(std::count(csv.begin(), csv.end(), '\n'), 1) << call;
  }
}

TEST_F(EveryCommand, TellsReadingsOfAPersonToo) {
  for (const Command& command : commands_) {
    const std::string table = good(command.name + " " + command.files);
    EXPECT_HAS(table, "b.wav") << command.name;
    EXPECT_HAS(good(command.name + " " + command.files + " --all"), "sample rate 48000 Hz") << command.name;
    EXPECT_EQ(table.find("nan"), std::string::npos) << command.name;
  }
}

// The names of the catalogue are for --all, JSON and CSV; a terminal of 100 columns holds every line but a
// name.
TEST_F(EveryCommand, SpeaksWordsWithinAHundredColumns) {
  good("feed a.wav --through 'sim:tern?drive=6,18' -o many.wav --quiet");
  const std::regex name("[a-z0-9]_(dbc|dbfs|dbu|dbtp|db|hz|ms|s|samples|percent|ppm|lufs|lu|uvrms|bits)\\b");
  std::vector<std::string> calls = {"show a.wav", "show b.wav", "kit make all.toml -o k", "units sim:tern"};
  for (const Command& command : commands_) {
    calls.push_back(command.name + " " + command.files);
    if (command.name != "takes" && command.files.rfind("b.wav", 0) == 0)
      calls.push_back(command.name + " many-drive-6.wav many-drive-18.wav" + command.files.substr(5));
  }
  for (const std::string& call : calls) {
    std::istringstream lines(wavicon(call).out);
    for (std::string line; std::getline(lines, line);) {
      EXPECT_LE(in_letters(line), 100U) << call << "\n" << line;
      if (call.rfind("show", 0) != 0) {
        EXPECT_FALSE(std::regex_search(line, name)) << call << "\n" << line;
      }
    }
  }
}

TEST_F(EveryCommand, KeepsLimitsAndSaysWhichOneIsNotKept) {
  for (const Command& command : {commands_[1], commands_[5], commands_[7]}) {
    const std::string call = command.name + " " + command.files;
    const json printed = json::parse(good(call + " --json"));
    const json& sheet = printed.is_array() ? printed[0] : printed;
    std::string name;
    double value = 0;
    for (const json& r : sheet["readings"])
      if (name.empty() && r["value"].is_number() && !r.value("bound", false)) {
        name = r["name"].get<std::string>();
        value = r["value"].get<double>();
      }
    ASSERT_FALSE(name.empty()) << call;
    const auto limited = [&](const std::string& limit) {
      return wavicon(call + " --quiet --limit '" + limit + "'").status;
    };
    EXPECT_EQ(limited(name + ">=" + std::to_string(value - 1e6)), 0) << call << " " << name;
    EXPECT_EQ(limited(name + "<" + std::to_string(value - 1e6)), 1) << call << " " << name;
    EXPECT_EQ(limited(name + "=3"), 2) << call;
  }
}

// docs/readings.md is what the program prints: it is written by `wavicon explain --all`.
TEST_F(EveryCommand, ExplainsTheReadingsAsTheDocumentationDoes) {
  EXPECT_EQ(good("explain --limits"), read_text(std::string(WAVICON_SOURCE_DIR) + "/docs/limits.md"));
  EXPECT_EQ(good("explain --all"), read_text(std::string(WAVICON_SOURCE_DIR) + "/docs/readings.md"))
      << "write it anew: wavicon explain --all > docs/readings.md";
  EXPECT_HAS(good("explain thd_n_db"), "THD+N");
  EXPECT_HAS(bad(2, "explain thd_n_bd"), "thd_n_db");
}

TEST_F(EveryCommand, AnswersWhatCannotBeMeasured) {
  write_text(file("text.wav"), "no audio at all");
  good("make silence --seconds 1 --no-marks -o empty.wav");
  for (const Command& command : commands_) {
    const bool two = command.files.find("a.wav") == 0;
    const std::string first = two ? "a.wav " : "";
    EXPECT_HAS(bad(3, command.name + " " + first + "none.wav"), "none.wav") << command.name;
    EXPECT_HAS(bad(3, command.name + " " + first + "text.wav"), "text.wav") << command.name;
    EXPECT_EQ(wavicon(command.name + " " + command.files + " --channel 9 --quiet").status, 2) << command.name;
    EXPECT_EQ(wavicon(command.name + " " + command.files + " --sheet /nowhere/s.json --quiet").status, 2)
        << command.name;
    EXPECT_EQ(wavicon(command.name).status, 2) << command.name << " without files";
    EXPECT_EQ(wavicon(command.name + " " + command.files + " --no-such-option").status, 2) << command.name;
    EXPECT_EQ(wavicon(command.name + " --help").status, 0) << command.name;
  }
  EXPECT_FALSE(std::filesystem::exists(file("s.json")));
}

}  // namespace
}  // namespace wavicon::every_command_test
