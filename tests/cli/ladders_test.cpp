// SPDX-License-Identifier: MIT
// Plugins that misbehave, ladders, and ladders that were killed, as a user meets them.

#include <chrono>
#include <filesystem>
#include <thread>

#include "program.hpp"

namespace wavicon::ladders_test {
namespace {

using namespace testing;

class Feeding : public Program {};

TEST_F(Feeding, APluginThatMisbehavesIsOneLineAndNoCapture) {
  good("make noise --seconds 1 --level -20 -o n.wav");
  const std::string unit = std::string("'lv2:") + WAVICON_HOSTILE_BUNDLE + ":";
  for (const char* name : {"crashes", "aborts", "exits", "throws", "takes-all-memory", "writes-infinity",
                           "writes-beyond", "writes-before", "crashes-at-start", "divides-by-zero"}) {
    const std::string line = bad(4, "feed n.wav -o c.wav --through " + unit + name + "'");
    EXPECT_HAS(line, name);
    if (std::string(name) != "crashes-at-start") {
      EXPECT_HAS(line, "s of the stimulus");
    }
  }
  EXPECT_HAS(bad(4, "feed n.wav -o c.wav --patience 0.3 --through " + unit + "hangs'"),
             "hangs: no progress in 0.3 s");
  good("feed n.wav -o a.wav --quiet --in-process --through 'lv2:urn:saltmarsh:tern?drive=9'");
  good("feed n.wav -o b.wav --quiet --through 'lv2:urn:saltmarsh:tern?drive=9'");
  EXPECT_EQ(read_text(file("a.wav")), read_text(file("b.wav")));
}

TEST_F(Feeding, ALadderMakesOneCaptureForEachCombination) {
  good("make noise --seconds 1 --level -20 -o n.wav");
  std::filesystem::create_directory(file("l"));
  const std::string text = good(
      "feed n.wav --through 'sim:tern?drive=0,12&oversampling=1,4' --through 'sim:heron?noise=-200' -o "
      "l/t.wav");
  EXPECT_HAS(text, "ladder of 4 captures: 4 fed");
  for (const char* drive : {"0", "12"})
    for (const char* oversampling : {"1", "4"}) {
      good(std::string("feed n.wav --quiet --through 'sim:tern?drive=") + drive +
           "&oversampling=" + oversampling + "' --through 'sim:heron?noise=-200' -o one.wav");
      EXPECT_EQ(read_text(file("one.wav")), read_text(file(std::string("l/t-drive-") + drive +
                                                           "-oversampling-" + oversampling + ".wav")));
    }
  EXPECT_HAS(bad(2, "feed n.wav --through 'sim:tern?drive=0,99' -o l/u.wav"), "drive=99 is not allowed");
  EXPECT_HAS(bad(2, "feed n.wav --through 'sim:tern?drive=0,,3' -o l/u.wav"), "is empty");
  // Does the result depend on the block size, is the latency that is reported true?
  good(
      "feed n.wav --through 'lv2:urn:saltmarsh:tern?oversampling=4' --block 64,500 --rates 44100,96000 -o "
      "l/b.wav");
  for (const char* rate : {"44100", "96000"})
    EXPECT_EQ(read_text(file(std::string("l/b-block-64-rate-") + rate + ".wav")),
              read_text(file(std::string("l/b-block-500-rate-") + rate + ".wav")));
  EXPECT_HAS(good("latency l/n-44100.wav l/b-block-64-rate-44100.wav"), "\n  latency  ");
  EXPECT_FALSE(std::filesystem::exists(file("l/.b.ladder")));
}

TEST_F(Feeding, WarningsOfAStepNameItsCapture) {
  good("make tone --level -6 --seconds 0.5 -o t.wav");
  const auto ran = wavicon("feed t.wav --through 'sim:tern?output=0,20' --bits 16 -o c.wav");
  EXPECT_EQ(ran.status, 0);
  EXPECT_HAS(ran.err, "c-output-20.wav: ");
  EXPECT_HAS(ran.err, "lie beyond full scale");
  EXPECT_EQ(ran.err.find("c-output-0.wav"), std::string::npos);
  EXPECT_EQ(ran.out.find("lie beyond"), std::string::npos);
}

TEST_F(Feeding, WhatUnitsReportStaysInTheCaptureWithIt) {
  good("make tone --seconds 0.5 -o t.wav");
  good("feed t.wav --through 'sim:heron?delay=300&reports=256&noise=-200' --keep-latency -o c.wav");
  EXPECT_HAS(good("latency t.wav c.wav"), "shift recordings earlier by another 44 samples");
  good("feed t.wav --through 'sim:heron?delay=300&reports=256&noise=-200' -o taken.wav");
  EXPECT_EQ(good("show taken.wav").find("reported"), std::string::npos);
}

TEST_F(Feeding, AKilledLadderGoesOnWhereItWas) {
  good("make noise --seconds 5 --level -20 -o n.wav");
  const std::string ladder =
      "feed n.wav --jobs 2 --through 'lv2:urn:saltmarsh:tern?drive=0,3,6,9,12,15&oversampling=16' -o t.wav";
  const std::string command = "cd '" + folder_.path().string() +
                              "' && LV2_PATH=/nowhere timeout -s KILL 1.2 '" + WAVICON_PROGRAM + "' ";
  (void)testing::run(command + ladder);
  const std::string record = std::filesystem::exists(file(".t.ladder")) ? read_text(file(".t.ladder")) : "";
  std::this_thread::sleep_for(std::chrono::milliseconds(300));  // what was killed is gone
  const auto lines = static_cast<std::size_t>(std::count(record.begin(), record.end(), '\n'));
  const std::string text = good(ladder);
  if (lines > 1) {
    EXPECT_HAS(text, std::to_string(lines - 1) + " kept from an interrupted run");
  }
  for (const char* drive : {"0", "15"}) {
    good(std::string("feed n.wav --quiet --through 'lv2:urn:saltmarsh:tern?drive=") + drive +
         "&oversampling=16' -o one.wav");
    EXPECT_EQ(read_text(file("one.wav")), read_text(file(std::string("t-drive-") + drive + ".wav")));
  }
  for (const std::string& name : folder_.names()) EXPECT_EQ(name.find(".partial"), std::string::npos) << name;
  EXPECT_FALSE(std::filesystem::exists(file(".t.ladder")));
}

// A program that is stopped at the terminal (Ctrl-Z), or a machine that sleeps, takes no plugin for one that hangs.
TEST_F(Feeding, WhatWasStoppedGoesOn) {
  good("make noise --seconds 20 --level -20 -o n.wav --quiet");
  const Ran ran = testing::run(
      "cd '" + folder_.path().string() + "' && { LV2_PATH=/nowhere setsid '" + WAVICON_PROGRAM +
      "' feed n.wav --quiet --block 1024 --patience 0.6 --through "
      "'lv2:urn:saltmarsh:tern?drive=12&oversampling=16' -o c.wav & pid=$!; "
      "sleep 0.5; kill -STOP -$pid; sleep 1.2; kill -CONT -$pid; sleep 0.2; kill -STOP -$pid; sleep 1.2; "
      "kill -CONT -$pid; wait $pid; }");
  EXPECT_EQ(ran.status, 0) << ran.err;
  EXPECT_EQ(ran.err.find("hangs"), std::string::npos) << ran.err;
  EXPECT_TRUE(std::filesystem::exists(file("c.wav")));
}

}  // namespace
}  // namespace wavicon::ladders_test
