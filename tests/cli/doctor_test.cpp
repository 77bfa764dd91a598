// SPDX-License-Identifier: MIT
// What is missing on a machine is named, with what to do.

#include "program.hpp"

namespace wavicon::doctor_test {
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

// Libraries that only plugins and servers need are loaded when they are used; without them everything else
// works.
TEST_F(Doctor, NamesThePackageOfALibraryThatIsNotThere) {
  for (const char* library : {"liblilv-0.so.0", "libjack.so.0"}) write_text(file(library), "");
  const auto without = [&](const std::string& arguments) {
    return testing::run("cd '" + folder_.path().string() +
                        "' && LD_LIBRARY_PATH=. LV2_PATH=/nowhere XDG_CACHE_HOME=cache "
                        "WAVICON_LOGBOOK=logbook.sqlite '" +
                        WAVICON_PROGRAM + "' " + arguments);
  };
  EXPECT_EQ(without("make tone --seconds 1 -o t.wav --quiet").status, 0);
  EXPECT_EQ(without("feed t.wav --through sim:tern -o c.wav --quiet").status, 0);
  EXPECT_EQ(without("levels c.wav").status, 0);
  const Ran plugin = without("feed t.wav --through lv2:urn:saltmarsh:tern -o d.wav");
  EXPECT_EQ(plugin.status, 4);
  EXPECT_HAS(plugin.err, "LV2 plugins need liblilv-0.so.0, which is not there: apt install liblilv-0-0");
  const Ran live = without("feed t.wav --through 'jack:default?to=x&from=y' -o d.wav");
  EXPECT_EQ(live.status, 4);
  EXPECT_HAS(live.err, "apt install libjack-jackd2-0");
  const Ran units = without("units");
  EXPECT_EQ(units.status, 0);
  EXPECT_HAS(units.out, "sim:tern");
  EXPECT_HAS(units.out, "apt install liblilv-0-0");
  EXPECT_HAS(without("doctor --missing").out, "apt install liblilv-0-0");
  // Nothing that a short file does not need is linked.
  const Ran linked = testing::run(std::string("ldd '") + WAVICON_PROGRAM + "'");
  EXPECT_EQ(linked.out.find("liblilv"), std::string::npos);
  EXPECT_EQ(linked.out.find("libjack"), std::string::npos);
}

TEST_F(Doctor, KeepsAndCountsEntries) {
  good("make tone --seconds 1 -o t.wav --quiet");
  good("levels t.wav --keep --quiet");
  EXPECT_HAS(good("doctor"), "logbook.sqlite, 1 entry");
}

}  // namespace
}  // namespace wavicon::doctor_test
