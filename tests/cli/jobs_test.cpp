// SPDX-License-Identifier: MIT
#include "program.hpp"

namespace wavicon::jobs_test {
namespace {

#if defined(__SANITIZE_THREAD__) || defined(__SANITIZE_ADDRESS__)
constexpr const char* kSoonS = "1";  // until a program listens that is begun by a sanitizer
#else
constexpr const char* kSoonS = "0.15";
#endif

using namespace testing;

class Jobs : public Program {};

TEST_F(Jobs, SeveralCapturesReadTheSameInTheSameOrder) {
  std::string files;
  for (int i = 0; i < 5; ++i) {
    const std::string name = "n" + std::to_string(i) + ".wav";
    good("make noise --colour pink --seconds 2 --channels 2 --noise-seed " + std::to_string(i) + " -o " +
         name);
    files += " " + name;
  }
  for (const char* command : {"health", "levels", "noise", "spectrum"}) {
    const std::string call = command + files + " --json", alone = good(call + " --jobs 1");
    EXPECT_EQ(good(call + " --jobs 3"), alone) << command;
    EXPECT_EQ(good(call), alone) << command;
  }
}

TEST_F(Jobs, TheFirstCaptureThatFailsIsNamed) {
  good("make tone --seconds 1 -o a.wav");
  write_text(file("broken.wav"), "no audio");
  for (const char* jobs : {"1", "4"})
    EXPECT_HAS(bad(3, std::string("levels a.wav broken.wav none.wav a.wav --jobs ") + jobs), "broken.wav");
  EXPECT_HAS(bad(2, "levels a.wav --jobs 0"), "--jobs");
}

// Whoever asks for an end gets it at once, in the middle of what takes longer, and no table of half a file.
TEST_F(Jobs, WhatTakesLongIsEndedWhenThatIsAskedFor) {
  good("make noise --seconds 200 --rate 96000 --channels 2 --no-marks --bits 16 -o long.wav");
  for (const char* call : {"noise long.wav", "levels long.wav --plot l.png", "health long.wav long.wav",
                           "null long.wav long.wav --delay 100"}) {
    const Ran ran = testing::run("cd '" + folder_.path().string() +
                                 "' && timeout --foreground --preserve-status -s TERM " + kSoonS + " '" +
                                 WAVICON_PROGRAM + "' " + call);
    EXPECT_EQ(ran.status, 130) << call << ran.err;
    EXPECT_EQ(ran.out, "") << call;
    EXPECT_HAS(ran.err, "interrupted; nothing was written");
  }
  EXPECT_EQ(folder_.names().size(), 1U);
}

}  // namespace
}  // namespace wavicon::jobs_test
