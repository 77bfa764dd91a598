// SPDX-License-Identifier: MIT
#include "program.hpp"

namespace wavicon {
namespace {

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

}  // namespace
}  // namespace wavicon
