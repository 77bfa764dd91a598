// SPDX-License-Identifier: MIT
// What is missing on a machine is named, with what to do.

#include "program.hpp"

namespace wavicon {
namespace {

using namespace testing;

class Doctor : public Program {};

TEST_F(Doctor, SaysWhatIsThereAndWhatIsMissing) {
  const std::string here = good("doctor");
  EXPECT_HAS(here, "arithmetic 3");
  EXPECT_HAS(here, "pictures there gnuplot");
  EXPECT_HAS(here, "logbook there");
  EXPECT_HAS(here, "stand-ins");
  const Ran bare =
      testing::run("cd '" + folder_.path().string() +
                   "' && PATH=/nowhere JACK_DEFAULT_SERVER=nobody LV2_PATH=/nowhere LADSPA_PATH=/nowhere "
                   "WAVICON_LOGBOOK=broken.txt '" +
                   WAVICON_PROGRAM + "' doctor --missing");
  EXPECT_EQ(bare.status, 0);
  EXPECT_HAS(bare.out, "pictures missing apt install gnuplot-nox");
  EXPECT_HAS(bare.out, "pages as PDF missing apt install chromium");
  EXPECT_HAS(bare.out, "sound server missing there is no JACK server");
  EXPECT_EQ(bare.out.find("terminal"), std::string::npos);
  // A logbook that cannot be read is named.
  std::ofstream(file("broken.txt")) << "no logbook";
  EXPECT_HAS(
      testing::run("cd '" + folder_.path().string() + "' && WAVICON_LOGBOOK=broken.txt LV2_PATH=/nowhere '" +
                   WAVICON_PROGRAM + "' doctor --missing")
          .out,
      "broken.txt");
}

TEST_F(Doctor, KeepsAndCountsEntries) {
  good("make tone --seconds 1 -o t.wav --quiet");
  good("levels t.wav --keep --quiet");
  EXPECT_HAS(good("doctor"), "logbook.sqlite, 1 entry");
}

}  // namespace
}  // namespace wavicon
