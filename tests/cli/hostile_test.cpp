// SPDX-License-Identifier: MIT
// What strangers send meets the program: names that lead elsewhere, full disks, closed pipes, names that
// steer.

#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <chrono>
#include <thread>

#include "program.hpp"

namespace wavicon::hostile_test {
namespace {

using namespace testing;
namespace fs = std::filesystem;

class Hostile : public Program {
 protected:
  void recipe(const std::string& name, const std::string& part = "p") const {
    write_text(file("r.toml"), "name = \"" + name +
                                   "\"\nmarks = true\nsample_rate_hz = 8000.0\n[[part]]\nname = \"" + part +
                                   "\"\nkind = \"tone\"\nfrequency_hz = 331.0\nseconds = 0.3\n");
  }
  // The same words with the program limited by the shell.
  Ran shell(const std::string& command) const {
    return testing::run("cd '" + folder_.path().string() + "' && export LV2_PATH=/nowhere && " + command);
  }
  static std::string program() {
    std::string text = "'";
    text += WAVICON_PROGRAM;
    return text += "' ";
  }
  // No file that was being written is left, not even a hidden one.
  std::vector<std::string> partials() const {
    std::vector<std::string> names;
    for (const auto& entry : fs::recursive_directory_iterator(folder_.path()))
      if (entry.path().filename().string().find(".partial") != std::string::npos)
        names.push_back(entry.path());
    return names;
  }
  void expect_no_partial() const { EXPECT_EQ(partials(), std::vector<std::string>{}); }
};

TEST_F(Hostile, ARecipesNameStaysInItsFolder) {
  for (const char* name : {"../../x", "/elsewhere/x", "a/b", "..", "", "-x", "a\\u0000b"}) {
    recipe(name);
    for (const char* command :
         {"kit make r.toml -o kit", "make --recipe r.toml -o out/", "make --recipe r.toml -o x.wav",
          "make --recipe r.toml --rates 8000,16000 -o out/"})
      EXPECT_HAS(bad(3, command), "r.toml:");
  }
  recipe("good", "../../part");
  EXPECT_HAS(bad(3, "kit make r.toml -o kit"), "r.toml:5:8: name: '../../part' holds '/'");
  recipe("../x");
  EXPECT_HAS(bad(3, "make --recipe r.toml -o x.wav"), "r.toml:1:8: name:");
  EXPECT_HAS(bad(2, "make tone --seconds 0.1 --name ../x -o out/"), "name: '../x'");
  // A name that leads out by a link that lies there.
  recipe("good");
  fs::create_directory(file("out"));
  fs::create_symlink(file("elsewhere.wav"), file("out/good-8000.wav"));
  EXPECT_HAS(bad(2, "make --recipe r.toml -o out/"), "leads out of the folder");
  EXPECT_FALSE(fs::exists(file("elsewhere.wav")));
}

TEST_F(Hostile, TheNameInsideAFileIsHeldToTheSameRule) {
  recipe("good");
  good("make --recipe r.toml -o s.wav --quiet");
  std::string bytes = read_text(file("s.wav"));
  const auto at = bytes.find("name = \"good\"");
  ASSERT_NE(at, std::string::npos);
  bytes.replace(at, 13, "name = \"../x\"");
  write_text(file("s.wav"), bytes);
  const std::string said = bad(3, "feed s.wav --rates 8000,16000 --through sim:tern -o c.wav");
  EXPECT_HAS(said, "s.wav (the recipe inside):1:8: name: '../x' holds '/'");
}

TEST_F(Hostile, NoCaptureOfALadderTakesThePlaceOfAnother) {
  good("make tone --seconds 0.2 -o t.wav --quiet");
  for (const char* values : {"6,6", "a,a"}) {
    const std::string said =
        bad(2, std::string("feed t.wav --through 'sim:tern?drive=") + values + "' -o c.wav");
    EXPECT_HAS(said, "would both be written to c-drive-");
  }
  EXPECT_HAS(bad(2, "feed t.wav --block 64,64 --through sim:tern -o c.wav"), "block=64");
  EXPECT_HAS(bad(2, "feed t.wav --rates 48000,48000 --through sim:tern -o c.wav"), "48000 Hz is given twice");
  EXPECT_HAS(bad(2, "make tone --rates 48000,48000 -o m.wav"), "48000 Hz is given twice");
  recipe("kit");
  EXPECT_HAS(bad(2, "kit make r.toml --rates 8000,8000 -o kit"), "8000 Hz is given twice");
  EXPECT_HAS(good("feed t.wav --through 'sim:tern?output=+6,-6' -o c.wav"), "ladder of 2 captures: 2 fed");
  EXPECT_TRUE(fs::exists(file("c-output-+6.wav")));
  EXPECT_TRUE(fs::exists(file("c-output--6.wav")));
  EXPECT_NE(read_text(file("c-output-+6.wav")), read_text(file("c-output--6.wav")));
  good("feed t.wav --through 'sim:tern?drive=1e+1,1e-1' -o e.wav");
  EXPECT_TRUE(fs::exists(file("e-drive-1e+1.wav")) && fs::exists(file("e-drive-1e-1.wav")));
}

TEST_F(Hostile, ABadBounceIsOneRowThatSaysSo) {
  recipe("kit");
  good("kit make r.toml -o kit --quiet");
  fs::copy_file(file("kit/stimuli/kit-8000.wav"), file("kit/bounces/good.wav"));
  std::string bytes = read_text(file("kit/bounces/good.wav"));
  // A label of one byte, and a size far beyond its list.
  const std::string list("LIST\x10\0\0\0adtllabl\1\0\0\0\1\0\0\0", 24),
      far("LIST\x10\0\0\0adtllabl\xFF\0\0\0\1\0\0\0", 24);
  write_text(file("kit/bounces/label.wav"), bytes + list);
  write_text(file("kit/bounces/label2.wav"), bytes + far);
  write_text(file("kit/bounces/noise.wav"), std::string(5000, 'x'));
  const Ran ran = wavicon("kit read kit");
  EXPECT_EQ(ran.status, 3) << ran.err;
  EXPECT_HAS(ran.out, "noise.wav: fault: ");
  EXPECT_HAS(ran.out, "good.wav: ");
  EXPECT_EQ(ran.out.find("basic_string"), std::string::npos) << ran.out;
  for (const char* row : {"good.wav", "label.wav", "label2.wav"})
    EXPECT_EQ(ran.out.find(std::string(row) + ": fault"), std::string::npos) << ran.out;
}

TEST_F(Hostile, AFullDiskIsNoSuccess) {
  good("make tone --seconds 0.3 -o t.wav --quiet");
  for (const char* command : {"harmonics t.wav", "harmonics t.wav --json", "show t.wav", "units",
                              "units sim:tern", "health t.wav", "explain --all", "explain thd_db", "--help",
                              "make --help", "make tone --seconds 0.1 -o m.wav", "levels t.wav t.wav"}) {
    const Ran ran = shell(program() + command + " >/dev/full");
    EXPECT_EQ(ran.status, 3) << command;
    EXPECT_HAS(ran.err, "wavicon: standard output cannot be written (No space left on device)");
  }
  EXPECT_EQ(shell(program() + "levels t.wav --quiet >/dev/full").status, 0);
  // Files that may not grow: a line, and nothing half written.
  for (const char* command :
       {"make tone --seconds 9 -o big.wav", "make tone --seconds 9 -o big.flac",
        "feed long.wav --through sim:tern -o big.wav", "null long.wav long.wav --residual big.wav",
        "spectrum long.wav --sheet big.json --quiet"}) {
    good("make noise --seconds 9 --rate 96000 -o long.wav --quiet");
    const Ran ran = shell("(ulimit -f 16; " + program() + command + ")");
    EXPECT_EQ(ran.status, 3) << command << ran.err;
    EXPECT_HAS(ran.err, "File too large");
    EXPECT_FALSE(fs::exists(file("big.wav"))) << command;
    expect_no_partial();
  }
}

TEST_F(Hostile, WhoClosesThePipeHasReadEnough) {
  good("make tone --seconds 0.3 -o t.wav --quiet");
  const Ran ran = shell("(sleep 0.2; " + program() + "explain --all; echo $? >status) | true; (sleep 0.2; " +
                        program() + "make tone --rates 8000,16000,32000 --seconds 2 -o p.wav) | true");
  EXPECT_EQ(ran.err, "");
  EXPECT_EQ(read_text(file("status")), "141\n");
  for (const char* made : {"p-8000.wav", "p-16000.wav", "p-32000.wav"})
    EXPECT_TRUE(fs::exists(file(made))) << made;
  expect_no_partial();
}

TEST_F(Hostile, OutputsAreFilesOfTheirOwn) {
  recipe("r");
  good("make tone --seconds 0.3 -o t.wav --quiet");
  for (const char* command :
       {"make tone --seconds 0.1 -o x.wav --save-recipe x.wav",
        "make tone --seconds 0.1 -o x.wav --save-recipe ./x.wav", "levels t.wav --sheet x --csv x",
        "spectrum t.wav --sheet x.png --plot x.png", "null t.wav t.wav --residual x.wav --sheet ./x.wav"})
    EXPECT_HAS(bad(2, command), "two outputs would go to this one file");
  EXPECT_HAS(bad(2, "make --recipe r.toml -o r.toml"), "r.toml");
  EXPECT_HAS(bad(2, "levels t.wav --stimulus r.toml --sheet r.toml"), "it is also the input");
  fs::permissions(file("t.wav"), fs::perms::owner_read);
  EXPECT_HAS(bad(2, "make tone --seconds 0.1 -o t.wav"), "read-only");
}

TEST_F(Hostile, NamesSteerNeitherTerminalNorPictureNorShell) {
  good("make tone --seconds 0.5 -o t.wav --quiet");
  for (const std::string name : {"o'clock.wav", "a`id`.wav", "\x1b]0;x\x07.wav", "a\x1b[31mred.wav",
                                 "$(touch owned).wav", "q\"uote.wav", "back\\slash.wav", "@at.wav",
                                 "\xff\xfe.wav", "line\nend.wav", "END.wav", "Größe.wav"}) {
    fs::copy_file(file("t.wav"), file(name));
    const std::string quoted = [&] {
      std::string text = "'";
      for (const char c : name) text += c == '\'' ? std::string("'\\''") : std::string(1, c);
      return text + "'";
    }();
    const Ran ran = wavicon("spectrum " + quoted + " " + quoted + " --plot p.png --sheet s.json --csv s.csv");
    EXPECT_EQ(ran.status, 0) << name << ran.err;
    EXPECT_GT(read_text(file("p.png")).size(), 5000U) << name;
    for (const std::string& text : {ran.out, ran.err, read_text(file("s.csv")), read_text(file("s.json"))})
      EXPECT_EQ(text.find_first_of("\x1b\x07\r\x7f"), std::string::npos) << name;
    const json sheets = json::parse(read_text(file("s.json")));
    const bool replaced = name[0] == '\xff';
    if (!replaced) {
      EXPECT_EQ(sheets[0]["capture"]["file"], name);
    }
    const std::string findings = sheets[0]["findings"].dump();
    EXPECT_EQ(findings.find("unreadable_name") != std::string::npos, replaced) << findings;
    (void)wavicon("show " + quoted + "x");
  }
  EXPECT_FALSE(fs::exists(file("owned")));
  const std::string folder = file("tmp'; touch owned; '");
  fs::create_directory(folder);
  EXPECT_EQ(shell("TMPDIR=\"" + folder + "\" " + program() + "spectrum t.wav --plot q.png --quiet").status,
            0);
  EXPECT_FALSE(fs::exists(file("owned")));
}

TEST_F(Hostile, RawErrorsOfTheSystemAreNotShown) {
  recipe("kit");
  good("kit make r.toml -o kit --quiet");
  fs::copy_file(file("kit/stimuli/kit-8000.wav"), file("kit/bounces/good.wav"));
  if (::geteuid() != 0) {  // nothing is forbidden to a superuser
    fs::permissions(file("kit/bounces"), fs::perms::none);
    EXPECT_HAS(bad(3, "kit read kit"), "cannot be read");
    fs::permissions(file("kit/bounces"), fs::perms::owner_all);
  }
  write_text(file("plain"), "x");
  EXPECT_HAS(bad(2, "make tone --seconds 0.1 -o plain/x/"), "the folder cannot be made (Not a directory)");
  EXPECT_HAS(bad(2, "make tone --seconds 0.1 -o plain/x.wav"), "is no folder");
  EXPECT_HAS(bad(3, "levels plain/x.wav"), "there is no such file");
  EXPECT_HAS(bad(3, "make --recipe /dev/zero -o x.wav"), "a recipe of 1048576 is the longest");
  // Little memory: a line, no raw word.
  good("make noise --seconds 60 --channels 8 --rate 96000 -o long.wav --quiet");
  const Ran ran =
      shell("(ulimit -v 400000; " + program() + "waveforms long.wav --from 0 --to 60 --despite-faults)");
  EXPECT_EQ(ran.err.find("std::"), std::string::npos) << ran.err;
  EXPECT_EQ(ran.err.find("filesystem error"), std::string::npos) << ran.err;
}

TEST_F(Hostile, APluginThatLosesAChannelOrIsSlowIsWarnedOf) {
  good("make noise --seconds 0.2 --channels 2 -o n.wav --quiet");
  const std::string bundle = std::string("'lv2:") + WAVICON_TEST_BUNDLES + "/test.lv2:";
  const Ran mono = wavicon("feed n.wav --through " + bundle + "stereo-to-mono' -o m.wav");
  EXPECT_EQ(mono.status, 0);
  EXPECT_HAS(mono.err, "m.wav: 2 channels went in and 1 came out");
  good("make noise --seconds 0.2 -o one.wav --quiet");
  const Ran slow = wavicon("feed one.wav --through " + bundle + "slow' -o s.wav");
  EXPECT_HAS(slow.err, "in real time they do not keep up");
  const Ran odd = wavicon("feed one.wav --through " + bundle + "odd-default' -o o.wav");
  EXPECT_HAS(odd.err, "its default of drive, 30, is outside of its own range, 0 to 20; 20 is taken");
  EXPECT_HAS(good("units " + bundle + "odd-default'"), "warning: its default of drive");
  const Ran usual = wavicon("feed one.wav --through sim:tern -o u.wav");
  EXPECT_EQ(usual.err, "");
}

// Whatever a ladder was doing when it was killed: its captures are whole or not there, and the next run
// brings the rest. Where it alone was killed, its workers end with it and leave no half ones.
TEST_F(Hostile, ALadderKilledAtAnyMomentLosesNothing) {
  good("make noise --seconds 1 -o n.wav --quiet");
  const std::string ladder =
      "feed n.wav --jobs 2 --through 'lv2:urn:saltmarsh:tern?drive=0,6,12,18' -o l.wav --quiet";
  good(ladder);
  std::map<std::string, std::string> whole;
  for (const std::string& name : folder_.names())
    if (name.rfind("l-", 0) == 0) whole[name] = read_text(file(name));
  ASSERT_EQ(whole.size(), 4U);
  // What a killed one was writing goes with the next, its own record too; not what one that runs is writing.
  const std::string running = ".l-drive-6." + std::to_string(::getpid()) + "-0.partial.wav";
  for (const std::string& name : {std::string("..l.999999999-0.partial.ladder"),
                                  std::string(".l-drive-6.999999999-0.partial.wav"), running})
    write_text(file(name), "half");
  good(ladder);
  EXPECT_EQ(partials(), std::vector<std::string>{file(running)});
  fs::remove(file(running));
  const int rounds = std::getenv("WAVICON_LONG_TESTS") != nullptr ? 100 : 12;
  for (int i = 0; i < rounds; ++i) {
    for (const auto& [name, bytes] : whole) fs::remove(file(name));
    const bool alone = i % 2 == 1;
    (void)shell("timeout -s KILL " + std::string(alone ? "--foreground " : "") +
                std::to_string(0.01 + 0.35 * ((i * 37) % 100) / 100.0) + " " + program() + ladder);
    if (alone) {
      // Its workers hear of it; what it was writing itself, its record, goes with the next ladder.
      const auto of_workers = [&] {
        std::vector<std::string> names = partials();
        std::erase_if(names, [](const std::string& name) { return name.ends_with(".partial.ladder"); });
        return names;
      };
      for (int tries = 0; tries < 100 && !of_workers().empty(); ++tries)
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
      EXPECT_EQ(of_workers(), std::vector<std::string>{});
    }
    for (const auto& [name, bytes] : whole)
      if (fs::exists(file(name))) {
        EXPECT_EQ(read_text(file(name)) == bytes, true) << name;
      }
    good(ladder);
    for (const auto& [name, bytes] : whole) ASSERT_EQ(read_text(file(name)) == bytes, true) << name;
    expect_no_partial();
  }
}

}  // namespace
}  // namespace wavicon::hostile_test
