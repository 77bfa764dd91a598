// SPDX-License-Identifier: MIT
// The examples at the end of every command's help are run as they are printed, on what the demo makes.

#include <filesystem>
#include <sstream>

#include "program.hpp"

namespace wavicon::examples_test {
namespace {

using namespace testing;

class ExamplesOfHelp : public Program {
 protected:
  // The files of the demo that the examples use; shorter ones where that says the same.
  void SetUp() override {
    std::filesystem::create_directories(folder_.path() / "demo-output" / "tern-times");
    std::filesystem::copy(std::string(WAVICON_SOURCE_DIR) + "/data", folder_.path() / "data");
    for (const char* call :
         {"make --recipe ../data/booth-2-morning.toml --rates 48000 -o .",
          "make tone --frequency 997 --level -20 --seconds 2 -o tone.wav",
          "feed booth-2-morning-48000.wav --through 'sim:tern?drive=12' -o morning-good.wav",
          "make sweep --from 18 --to 22000 --seconds 2 --level -1 -o sweep.wav",
          "feed sweep.wav --through 'sim:tern?drive=18&oversampling=1' -o tern-times/oversampling-1.wav",
          "feed sweep.wav --through 'sim:tern?drive=18&oversampling=4' -o tern-times/oversampling-4.wav",
          "feed tone.wav --through 'sim:tern?drive=24' -o tern-drive-24.wav",
          "harmonics tern-drive-24.wav --sheet tern-drive-24.json",
          "make staircase --frequencies 4999,9973,15013 --levels -1 --step 0.6 -o fold-steps.wav",
          "feed fold-steps.wav --through 'sim:tern?drive=18&oversampling=8' -o fold-8.wav",
          "make staircase --levels -60,-40,-20,-3 --step 0.5 -o steps.wav",
          "feed steps.wav --through 'sim:tern?drive=12&asymmetry=0.3' -o tern-steps.wav",
          "make silence --seconds 6 --channels 2 -o silence.wav",
          "feed silence.wav --through 'sim:heron?noise=-108&hum=-96' -o heron-silence.wav",
          "feed silence.wav --through 'sim:heron?noise=-111' -o heron-on-batteries.wav",
          "feed silence.wav --through sim:curlew -o curlew-silence.wav",
          "make tone --frequency 997 --level -40 --seconds 3 --channels 2 -o tone-40.wav",
          "feed tone-40.wav --through sim:curlew -o curlew.wav",
          "make programme --content voice --seconds 6 -o voice.wav",
          "make programme --content chamber --seconds 6 -o chamber.wav",
          "make programme --content chamber --seconds 4 --channels 2 --no-marks -o chapter-one.wav",
          "feed chapter-one.wav --through 'sim:dunlin?gain=-0.3&delay=1.25&noise=-104' -o run-1.wav",
          "feed chapter-one.wav --through 'sim:dunlin?delay=1.5&noise=-104&hum=-71' -o run-2.wav",
          "feed chapter-one.wav --through 'sim:dunlin?delay=3&noise=-104&treble=15000' -o run-3.wav",
          "feed tone.wav --through 'sim:heron?delay=51.4&buffers=2&noise=-110' --keep-latency --block 64 -o "
          "heron-block-64.wav",
          "make --recipe ../data/sentence.toml -o sentence.wav",
          "feed sentence.wav --through 'sim:dunlin?noise=-78' -o reading-1.wav",
          "feed sentence.wav --through 'sim:dunlin?gain=-7&noise=-76&seed=2&treble=9000' -o reading-2.wav",
          "feed sentence.wav --through 'sim:dunlin?gain=-14&noise=-75&seed=3&treble=3000' -o reading-3.wav",
          "make sweep --from 18 --to 22000 --seconds 2 --level -12 -o slow-sweep.wav",
          "feed slow-sweep.wav --through 'sim:avocet?cut=2&cut_hz=120' -o avocet-cut-2.wav",
          "feed slow-sweep.wav --through 'sim:avocet?cut=4&cut_hz=80' -o avocet-cut-4.wav",
          "make noise --colour pink --period 1.4 --seconds 6 -o pink.wav",
          "feed pink.wav --through 'sim:avocet?bell=6&bell_hz=3000&q=2' -o pink-presence.wav",
          "feed pink.wav --through 'sim:avocet?shelf=-4&cut=1&cut_hz=60' -o pink-shelf.wav",
          "make --recipe ../data/levels-and-block.toml -o levels-and-block.wav",
          "feed levels-and-block.wav --through 'sim:plover?attack=10&detector=peak' -o plover-peak.wav",
          "feed levels-and-block.wav --through 'sim:plover?attack=10&detector=rms' -o plover-rms.wav",
          "make --recipe ../data/ramp.toml -o ramp.wav",
          "feed ramp.wav --through 'sim:heron?clip=-4.2&noise=-108' -o heron-ramp.wav",
          "feed ramp.wav --through 'sim:tern?drive=6' -o tern-ramp.wav",
          "make staircase --frequencies 100,997,9973,19997 --levels -12 --step 0.8 --marks -o four-tones.wav",
          "feed four-tones.wav --through 'sim:curlew?bits=6' -o curlew-tones.wav",
          "kit make ../data/session-kit.toml --rates 48000 -o kit",
          "feed kit/stimuli/session-48000.wav --through 'sim:tern?drive=12' --bits 24 -o "
          "kit/bounces/tern.wav"})
      demo(std::string(call) + " --quiet", 0);
    for (const char* call :
         {"heron-silence.wav --as 'Heron on mains' --tag kind=interface --on 2026-03-02",
          "heron-on-batteries.wav --as 'Heron on batteries' --tag kind=interface --on 2026-03-03"})
      demo(std::string(
               "noise --quiet --channel 1 --calibrate 0dBFS=2.45Vrms --logbook logbook.sqlite --keep ") +
               call,
           0);
    for (const std::string day : {"2026-03-02", "2026-09-07"}) {
      demo("feed silence.wav --through 'sim:heron?noise=-108' --quiet -o heron-" + day + ".wav", 0);
      demo("noise heron-" + day +
               ".wav --quiet --channel 1 --calibrate 0dBFS=2.45Vrms --logbook logbook.sqlite "
               "--keep --on " +
               day,
           0);
    }
    testing::run("cd '" + (folder_.path() / "demo-output").string() +
                 "' && perl ../data/from-the-session.pl .");
    demo("feed blocks.wav --through 'sim:plover?threshold=-24&ratio=4' --bits 24 -o blocks-back.wav --quiet",
         0);
    demo("feed sweep.wav --through 'sim:tern?drive=12' --bits 24 -o sweep-back.wav --quiet", 0);
  }
  void demo(const std::string& arguments, int status) const {
    const Ran ran = testing::run("cd '" + (folder_.path() / "demo-output").string() +
                                 "' && LV2_PATH=/nowhere '" + WAVICON_PROGRAM + "' " + arguments);
    EXPECT_EQ(ran.status, status) << arguments << "\n" << ran.out << ran.err;
  }
};

std::vector<std::string> lines_with(const std::string& text, const std::string& begin) {
  std::vector<std::string> found;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);)
    if (line.rfind(begin, 0) == 0) found.push_back(line.substr(begin.size()));
  return found;
}

TEST_F(ExamplesOfHelp, RunAsTheyArePrinted) {
  std::size_t commands = 0;
  std::istringstream lines(good("--help"));
  bool listed = false;
  for (std::string line; std::getline(lines, line);) {
    if (line.rfind("1. ", 0) == 0) listed = true;
    if (!listed || line.size() < 3 || line.rfind("  ", 0) != 0 || line[2] == ' ') continue;
    const std::string command = line.substr(2, line.find(' ', 2) - 2);
    const std::string help = good(command + " --help");
    // The question comes first, two examples last.
    EXPECT_NE(help.substr(0, help.find('\n')).find('?'), std::string::npos) << help.substr(0, 200);
    const auto examples = lines_with(help, "  wavicon ");
    EXPECT_EQ(examples.size(), 2U) << command;
    ++commands;
    if (command == "stand-in") continue;  // needs a sound server, and runs until it is stopped
    for (const std::string& example : examples) demo(example, 0);
  }
  EXPECT_GE(commands, 20U);
}

}  // namespace
}  // namespace wavicon::examples_test
