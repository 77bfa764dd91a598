// SPDX-License-Identifier: MIT
// Watching, as a person does: in a terminal of the tests' own (tmux), with keys; in a pipe; on a server.

#include <cstdlib>
#include <regex>

#include "server.hpp"
#include "terminal.hpp"

namespace wavicon::watch_test {
namespace {

using namespace testing;

class WatchCommand : public WithTerminal<WithServer> {
 protected:
  void SetUp() override {
    good("make tone --frequency 997 --seconds 30 --no-marks -o long.wav --quiet");
    good("feed long.wav --through 'sim:tern?drive=12' -o driven.wav --quiet");
    good("make tone --frequency 997 --seconds 2 -o short.wav --quiet");
  }
  void watch(const std::string& words) const {
    enter(std::string("'") + WAVICON_PROGRAM + "' watch " + words);
  }
};

TEST_F(WatchCommand, PrintsALineASecondIntoAPipe) {
  const std::string lines = good("watch short.wav --view harmonics");
  EXPECT_HAS(lines, " s 997.000 Hz at -20.00 dBFS");
  EXPECT_GE(std::count(lines.begin(), lines.end(), '\n'), 2);
  const std::string objects = good("watch driven.wav --view harmonics --json --seconds 2.3");
  std::istringstream in(objects);
  int count = 0;
  for (std::string line; std::getline(in, line); ++count) {
    const json object = json::parse(line);
    EXPECT_EQ(object["view"], "harmonics");
    EXPECT_NEAR(reading(object["sheets"][0], "thd_db")["value"].get<double>(), -61.63, 0.01);
  }
  EXPECT_GE(count, 1);  // two, on a machine that keeps up
  EXPECT_LE(count, 2);
  // A reader that goes away is no disaster.
  EXPECT_EQ(testing::run("cd '" + folder_.path().string() + "' && '" + WAVICON_PROGRAM +
                         "' watch short.wav | head -1 >/dev/null; echo $?")
                .status,
            0);
}

TEST_F(WatchCommand, WaitsUntilAReadingIsThere) {
  EXPECT_HAS(good("watch --through 'sim:tern?drive=12' --play tone --until 'thd_db>-70'"), "s: -61.62");
  const Ran late = wavicon("watch --through 'sim:tern?drive=0' --until 'thd_db>-30' --seconds 2 --quiet");
  EXPECT_EQ(late.status, 1);
  EXPECT_HAS(bad(2, "watch"), "watch: what?");
  EXPECT_HAS(bad(2, "watch long.wav --until 'thd>1' --view harmonics"), "there is no reading 'thd'");
  EXPECT_HAS(bad(2, "watch long.wav --until 'thd_db>last' --view harmonics"), "waits for a number");
  EXPECT_HAS(bad(2, "watch long.wav --play tone"), "a recording plays itself");
  EXPECT_HAS(bad(2, "watch --through sim:tern --level 0"), "above the ceiling of -6 dBFS");
  EXPECT_HAS(bad(2, "watch --through sim:tern --play tune"), "'tune' is nothing to play");
  EXPECT_HAS(bad(2, "watch --through sim:turn"), "did you mean 'tern'");
  EXPECT_HAS(bad(3, "watch none.wav"), "none.wav: there is no such file");
  EXPECT_HAS(bad(2, "watch long.wav jack:default?from=x"), "cannot be watched together");
  EXPECT_HAS(bad(2, "watch long.wav --window 0"), "a window is 0.1");
  EXPECT_HAS(bad(2, "watch long.wav --transform 1000"), "power of two");
}

TEST_F(WatchCommand, ShowsEveryViewInATerminal) {
  if (!terminals()) GTEST_SKIP() << "tmux is not installed, or no terminal can be opened here";
  open(120, 40);
  watch("--through 'sim:tern?drive=12' --play tone --frequency 997");
  EXPECT_TRUE(shows("strongest line -20.02 dBFS at 997.00 Hz"));
  EXPECT_TRUE(shows("H3"));
  const auto view = [&](const std::string& key, const std::string& text) {
    press(key);
    EXPECT_TRUE(shows(text)) << key;
  };
  view("2", "H3 -61.63 dBc");
  view("3", "crest 3.00 dB");
  view("4", "s ago");
  view("5", "what is left");
  view("6", "correlation 1.00");
  view("7", "noise -17");
  view("8", "marks are needed");
  view("2", "THD 0.0829 %");
  press("+");
  press("+");
  EXPECT_TRUE(shows("drive 14 dB"));
  EXPECT_TRUE(shows("THD 0.131 %"));
  press("Up");
  EXPECT_TRUE(shows("plays 997 Hz at -19.0 dBFS"));
  press("Right");
  EXPECT_TRUE(shows("plays 1056.285 Hz"));
  press("g");
  press("440 Enter");
  EXPECT_TRUE(shows("440.000 Hz at -19.0"));
  press("v");
  EXPECT_TRUE(shows("spectrum: strongest line"));
  press("?");
  EXPECT_TRUE(shows("what does the knob add?"));
  press("?");
  // Smaller, and larger again: nothing is left of what was there.
  tmux("resize-window -x 80 -y 24");
  EXPECT_TRUE(shows_without("? help q quit", "spectrum: strongest"));
  EXPECT_TRUE(shows_without("THD, dB", "spectrum: strongest"));
  std::istringstream rows(seen());
  for (std::string row; std::getline(rows, row);) EXPECT_LE(row.size(), 80u * 3);
  tmux("resize-window -x 120 -y 40");
  EXPECT_TRUE(shows("spectrum: strongest"));
  press("q");
  EXPECT_TRUE(shows("ready:"));
  EXPECT_EQ(seen().find("THD, dB"), std::string::npos) << "the terminal is as it was";
}

// Without colours, without Unicode, and where no character can be placed.
TEST_F(WatchCommand, FitsPoorTerminals) {
  if (!terminals()) GTEST_SKIP() << "tmux is not installed, or no terminal can be opened here";
  open(80, 24);
  enter("export NO_COLOR=1 LANG=C LC_ALL=C");
  watch("driven.wav --view harmonics");
  EXPECT_TRUE(shows("H3 -61.63 dBc #"));
  const std::string ascii = seen();
  for (const char c : ascii) ASSERT_LT(static_cast<unsigned char>(c), 128) << ascii;
  EXPECT_FALSE(std::regex_search(tmux("capture-pane -p -e"), std::regex("\x1b\\[[0-9;]*3[1-8]")))
      << "no colour";
  press("q");
  EXPECT_TRUE(shows("ready:"));
  enter("clear; TERM=dumb '" + std::string(WAVICON_PROGRAM) + "' watch driven.wav");
  EXPECT_TRUE(shows("--lines prints a line a second"));
}

TEST_F(WatchCommand, KeepsWhatWasSeen) {
  if (!terminals()) GTEST_SKIP() << "tmux is not installed, or no terminal can be opened here";
  open(120, 40);
  watch("driven.wav --view harmonics --last 2 --keep");
  EXPECT_TRUE(shows("THD 0.0829 %"));
  std::this_thread::sleep_for(std::chrono::seconds(2));
  press("k");
  EXPECT_TRUE(shows("watched-1.wav (2.0 s) with its sheet"));
  press("m");
  press("loud Enter");
  EXPECT_TRUE(shows("marked"));
  press("p");
  EXPECT_TRUE(shows("drawn: ./watched-1.png"));
  press("q");
  EXPECT_TRUE(shows("loud: 997.000 Hz at -20.02 dBFS"));
  // The sheet is what the command for files gives of the capture.
  const json kept = json::parse(read_text(file("watched-1.json")));
  const json again = json::parse(good("harmonics watched-1.wav --json --despite-faults"));
  ASSERT_EQ(kept["readings"].size(), again["readings"].size());
  for (std::size_t i = 0; i < kept["readings"].size(); ++i) {
    EXPECT_EQ(kept["readings"][i]["name"], again["readings"][i]["name"]);
    EXPECT_EQ(kept["readings"][i]["value"], again["readings"][i]["value"]) << kept["readings"][i]["name"];
  }
  EXPECT_GT(std::filesystem::file_size(file("watched-1.png")), 10000u);
  EXPECT_HAS(good("logbook list"), "harmonics");
}

// After a crash the terminal takes lines again, and shows them.
TEST_F(WatchCommand, LeavesTheTerminalAsItWas) {
  if (!terminals()) GTEST_SKIP() << "tmux is not installed, or no terminal can be opened here";
  open(100, 30);
  enter("stty -g > before.txt");
  for (const char* signal : {"SEGV", "TERM", "INT"}) {
    watch("long.wav");
    EXPECT_TRUE(shows("strongest line"));
    testing::run("pkill -" + std::string(signal) + " -f '[w]atch long.wav'");
    std::this_thread::sleep_for(std::chrono::seconds(1));
    enter("stty -g > after.txt; echo back-" + std::string(signal));
    EXPECT_TRUE(shows(std::string("back-") + signal)) << signal;
    EXPECT_EQ(read_text(file("before.txt")), read_text(file("after.txt"))) << signal;
    EXPECT_EQ(seen().find("strongest line"), std::string::npos);
  }
}

TEST_F(WatchCommand, TurnsARealPluginWithoutAGap) {
  if (!terminals()) GTEST_SKIP() << "tmux is not installed, or no terminal can be opened here";
  open(120, 40);
  watch("--through 'lv2:" + std::string(WAVICON_BUNDLES) +
        "/tern.lv2?drive=0' --play tone --frequency 997 --view harmonics");
  EXPECT_TRUE(shows("odd orders only"));
  for (int i = 0; i < 12; ++i) press("+");
  EXPECT_TRUE(shows("drive 12 dB"));
  EXPECT_TRUE(shows("H3 -61.63 dBc"));
  press("q");
  EXPECT_TRUE(shows("ready:"));
}

TEST_F(WatchCommand, SaysWhenAPluginDies) {
  const Ran ran = wavicon("watch --through 'lv2:" + std::string(WAVICON_HOSTILE_BUNDLE) +
                          ":crash' --play tone --seconds 2 --view levels");
  EXPECT_NE(ran.status, 0);
  EXPECT_HAS(ran.err, "wavicon: ");
}

TEST_F(WatchCommand, WatchesAServerThatDiesAndReturns) {
  if (!terminals()) GTEST_SKIP() << "tmux is not installed, or no terminal can be opened here";
  if (!serve(4096, "heron?delay=261.4&noise=-110")) GTEST_SKIP() << "no server can run here";
  open(120, 40);
  watch("'jack:" + server_ +
        "?from=heron:out_1&to=heron:in_1' --play tone --frequency 997 --level -12 --view harmonics");
  EXPECT_TRUE(shows("997.000 Hz at -12.0"));
  press("Down");
  EXPECT_TRUE(shows("997.000 Hz at -13.0"));
  press("q");
  EXPECT_TRUE(shows("ready:"));
  watch("'jack:" + server_ + "?from=heron:out_1&to=heron:in_1' --play marks --level -12 --view round-trip");
  // Heron's round trip, and one block more of a graph that goes in a circle.
  EXPECT_TRUE(shows("4357.4"));
  end();
  EXPECT_TRUE(shows("! the port"));
  if (!serve(4096, "heron?delay=261.4&noise=-110", true)) GTEST_SKIP() << "the server did not come back";
  EXPECT_TRUE(shows("round-trip"));
  EXPECT_TRUE(loses("! the port"));
  press("q");
  EXPECT_TRUE(shows("ready:"));
  // Nobody at a terminal.
  EXPECT_HAS(good("watch 'jack:" + server_ + "?from=heron:out_1' --view levels --seconds 2.2"), "RMS -110");
  EXPECT_HAS(bad(4, "watch 'jack:" + server_ + "?from=nobody'"), "no port to record from matches 'nobody'");
}

// A desktop's server, through its JACK interface: captured and watched as under jackd.
TEST_F(WatchCommand, WorksUnderPipeWire) {
  if (!has("pipewire") || !has("pw-jack"))
    GTEST_SKIP() << "the packages pipewire and pipewire-jack are not installed";
  const std::string folder = folder_.path().string(), own = "env XDG_RUNTIME_DIR=" + folder + " ";
  std::filesystem::permissions(folder_.path(), std::filesystem::perms::owner_all);
  pid_t pipewire =
      start(own + "pipewire -c " + WAVICON_SOURCE_DIR + "/tests/cli/pipewire.conf", "pipewire.log");
  for (int i = 0; i < 50 && !std::filesystem::exists(file("pipewire-0")); ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
  const std::string program = std::string("pw-jack '") + WAVICON_PROGRAM + "' ";
  pid_t heron = start(own + program + "stand-in 'heron?delay=261.4&noise=-110'", "pw-heron.log");
  for (int i = 0; i < 50 && read_text(file("pw-heron.log")).find("runs as a client") == std::string::npos;
       ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
  const bool there = read_text(file("pw-heron.log")).find("runs as a client") != std::string::npos;
  if (there) {
    const std::string ports = "'jack:default?to=heron:in_1&from=heron:out_1'";
    const auto under = [&](const std::string& words) {
      return testing::run("cd '" + folder + "' && " + own + "timeout -s KILL 30 " + program + words);
    };
    const Ran fed = under("feed short.wav --repeat 3 --through " + ports + " -o pw.wav");
    // A machine with too much to do has xruns here as anywhere.
    EXPECT_TRUE(fed.status == 0 || fed.err.find("xrun") != std::string::npos) << fed.err;
    // Heron's, and a block of 1024 of a graph that goes in a circle.
    if (fed.status == 0) {
      EXPECT_NEAR(reading(json::parse(good("latency short.wav pw.wav --json")), "latency_samples")["value"]
                      .get<double>(),
                  261.4 + 1024, 0.05);
    }
    const Ran watched =
        under("watch " + ports + " --play tone --frequency 997 --view harmonics --seconds 2.5");
    EXPECT_EQ(watched.status, 0) << watched.err;
    EXPECT_HAS(watched.out, "997.000 Hz at -20.00 dBFS");
  }
  stop(heron, SIGKILL);
  stop(pipewire);
  if (!there) GTEST_SKIP() << "PipeWire does not run here";
}

}  // namespace
}  // namespace wavicon::watch_test
