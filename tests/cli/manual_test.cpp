// SPDX-License-Identifier: MIT
// The manual and what shells offer, as somebody meets them who has never read anything of ours.

#include <filesystem>
#include <regex>
#include <set>
#include <sstream>

#include "program.hpp"
#include "terminal.hpp"

namespace wavicon::manual_test {
namespace {

using namespace testing;
namespace fs = std::filesystem;

class Manual : public Program {
 protected:
  std::vector<std::string> commands() const {
    std::vector<std::string> names;
    std::istringstream lines(good("completion --words -- \"\""));
    std::string line;
    std::getline(lines, line);
    while (std::getline(lines, line))
      if (line[0] != '-') names.push_back(line.substr(0, line.find(" | ")));
    return names;
  }
};

TEST_F(Manual, BeginsWithTheQuestionAndTwoExamples) {
  const std::string page = good("help aliasing");
  EXPECT_EQ(page.rfind("wavicon-aliasing\n", 0), 0U) << page.substr(0, 200);
  const auto question = page.find("does it alias"), examples = page.find("wavicon aliasing tern-times"),
             synopsis = page.find("SYNOPSIS"), options = page.find("\nOPTIONS"),
             readings = page.find("worst_alias_dbc");
  EXPECT_LT(question, examples);
  EXPECT_LT(examples, synopsis);
  EXPECT_LT(synopsis, options);
  EXPECT_LT(synopsis, readings);
  EXPECT_NE(readings, std::string::npos);
  EXPECT_EQ(good("help wavicon-aliasing"), page);
  EXPECT_HAS(good("help recipes"), "silence_before_s");
  EXPECT_HAS(good("help readings"), "thd_n_db");
  EXPECT_HAS(good("help units"), "what can a signal be fed through");
  EXPECT_HAS(good("help units"), "sim:tern");
  EXPECT_HAS(good("help"), "wavicon-recipes(7)");
  EXPECT_HAS(bad(2, "help alaising"), "did you mean 'aliasing'");
  EXPECT_HAS(bad(3, "help --pages /dev/null/pages"), "cannot be made");
}

// Every command has a page that holds every option of its help, and every page that is referred to is there.
TEST_F(Manual, HoldsEveryOptionOfEveryCommand) {
  good("help --pages pages");
  const std::regex option("\n +(?:-[a-z],)?(--[a-z-]+)");
  for (const std::string& command : commands()) {
    const fs::path page = folder_.path() / "pages" / ("wavicon-" + command + ".1");
    ASSERT_TRUE(fs::exists(page)) << page;
    std::string source = read_text(page);
    source = std::regex_replace(source, std::regex(R"(\\-)"), "-");
    const std::string help = good(command + " --help");
    for (std::sregex_iterator it(help.begin(), help.end(), option), end; it != end; ++it)
      EXPECT_NE(source.find((*it)[1].str()), std::string::npos) << command << " " << (*it)[1];
  }
  std::string all;
  for (const auto& entry : fs::directory_iterator(folder_.path() / "pages")) {
    const std::string source = read_text(entry.path());
    EXPECT_EQ(source.rfind(".TH \"", 0), 0U) << entry.path();
    all += std::regex_replace(std::regex_replace(source, std::regex(R"(\\f[BR])"), ""), std::regex(R"(\\-)"),
                              "-");
  }
  const std::regex reference("(wavicon-?[a-z-]*)\\(([17])\\)");
  for (std::sregex_iterator it(all.begin(), all.end(), reference), end; it != end; ++it) {
    const std::string name = (*it)[1].str();
    EXPECT_TRUE(fs::exists(folder_.path() / "pages" / (name + "." + (*it)[2].str()))) << name;
  }
  good("help --pages again");
  for (const auto& entry : fs::directory_iterator(folder_.path() / "pages"))
    EXPECT_EQ(read_text(entry.path()), read_text(folder_.path() / "again" / entry.path().filename()));
}

TEST_F(Manual, IsAsManWantsIt) {
  if (testing::run("command -v mandoc").status != 0) GTEST_SKIP() << "mandoc is not installed";
  good("help --pages pages");
  const Ran lint = testing::run("cd '" + file("pages") + "' && mandoc -T lint -W style wavicon*");
  EXPECT_EQ(lint.out + lint.err, "");
  const Ran shown =
      testing::run("cd '" + file("pages") + "' && mandoc -T utf8 -O width=100 wavicon-recipes.7 | col -b");
  EXPECT_HAS(shown.out, "silence_before_s");
  EXPECT_EQ(shown.out.find("\\f"), std::string::npos);
}

class Completion : public WithTerminal<Program> {
 protected:
  std::vector<std::string> offered(const std::string& words) const {
    std::vector<std::string> lines;
    std::istringstream in(good("completion --words -- " + words));
    for (std::string line; std::getline(in, line);) lines.push_back(line.substr(0, line.find(" | ")));
    return lines;
  }
  static bool holds(const std::vector<std::string>& lines, const std::string& word) {
    return std::find(lines.begin(), lines.end(), word) != lines.end();
  }
};

TEST_F(Completion, OffersWhatMayStandThere) {
  EXPECT_TRUE(holds(offered("alia"), "aliasing"));
  EXPECT_EQ(offered("alia").size(), 2U);
  EXPECT_TRUE(holds(offered("levels"), "levels")) << "it may be finished already";
  EXPECT_EQ(offered("levels ''")[0].rfind("files .wav .flac", 0), 0U);
  EXPECT_TRUE(holds(offered("levels x.wav --no-t"), "--no-true-peak"));
  EXPECT_FALSE(holds(offered("levels --json --js"), "--json")) << "it is there already";
  EXPECT_TRUE(holds(offered("harmonics x.wav --limit thd"), "thd_n_db"));
  EXPECT_TRUE(holds(offered("harmonics x.wav --limit h"), "h3_dbc"));
  EXPECT_FALSE(holds(offered("harmonics x.wav --limit lo"), "loudness_integrated_lufs"))
      << "of another command";
  EXPECT_TRUE(holds(offered("harmonics x.wav --limit 'thd_db<'"), "thd_db<last"));
  EXPECT_TRUE(holds(offered("feed x.wav --through sim:te"), "sim:tern"));
  EXPECT_TRUE(holds(offered("feed x.wav --through 'sim:tern?dr'"), "sim:tern?drive="));
  EXPECT_TRUE(
      holds(offered("feed x.wav --through 'sim:tern?drive=3&over'"), "sim:tern?drive=3&oversampling="));
  EXPECT_TRUE(holds(offered("feed x.wav --through 'sim:tern?oversampling='"), "sim:tern?oversampling=4"));
  EXPECT_TRUE(holds(offered("levels x.wav --rms-reference ''"), "sine"));
  EXPECT_TRUE(holds(offered("levels x.wav --rms-reference=s"), "--rms-reference=sine"));
  EXPECT_EQ(offered("levels x.wav --plot ''")[0], "files .png .svg");
  EXPECT_EQ(offered("bench --captures ''")[0], "folders");
  EXPECT_TRUE(holds(offered("make ''"), "tone"));
  EXPECT_TRUE(holds(offered("make tone --fr"), "--frequency"));
  EXPECT_TRUE(holds(offered("logbook ra"), "rank"));
  EXPECT_TRUE(holds(offered("logbook rank noise_db"), "noise_dbu"));
  EXPECT_TRUE(holds(offered("bench --plan comp"), "compressor"));
  EXPECT_TRUE(holds(offered("bench --plan saturation sim:t"), "sim:tern"));
  EXPECT_TRUE(holds(offered("stand-in her"), "heron"));
  EXPECT_TRUE(holds(offered("explain effective"), "effective_bits"));
  EXPECT_TRUE(holds(offered("help rec"), "recipes"));
  EXPECT_TRUE(holds(offered("watch --view harm"), "harmonics"));
  EXPECT_EQ(offered("nonsense --x")[0], "words");
  EXPECT_EQ(offered("feed x.wav --through 'sim:none?x'").size(), 1U)
      << "what cannot be found out is not offered";
  good("make --recipe '" + std::string(WAVICON_SOURCE_DIR) +
       "/data/booth-2-morning.toml' -o all.wav --quiet");
  const auto parts = offered("noise all.wav --part ''");
  EXPECT_GT(parts.size(), 3U);
  // A shell gives its line as it is.
  EXPECT_HAS(good("completion --line 'wavicon alia'"), "aliasing");
  EXPECT_HAS(good("completion --line 'echo x; wavicon levels --rms-reference '"), "square");
  EXPECT_HAS(good("completion --breaks ':=' --line 'wavicon feed x --through sim:ter'"), "\ntern");
  EXPECT_HAS(good("completion --breaks ':=' --line \"wavicon feed x --through 'sim:ter\""), "\nsim:tern");
  EXPECT_HAS(bad(2, "completion tcsh"), "bash, zsh and fish");
}

// In the shells themselves: what is typed with a tab becomes what is meant.
TEST_F(Completion, WorksInTheShells) {
  if (!terminals()) GTEST_SKIP() << "tmux is not installed, or no terminal can be opened here";
  fs::create_directories(folder_.path() / "bin");
  fs::create_symlink(WAVICON_PROGRAM, folder_.path() / "bin" / "wavicon");
  write_text(file("first take.wav"), "");
  write_text(file("first.txt"), "");
  struct Shell {
    std::string name, start, source;
  };
  const Shell shells[] = {
      {"bash", "bash --norc --noprofile",
       "PATH=$PWD/bin:/usr/bin:/bin; source <(wavicon completion bash); echo on"},
      {"zsh", "zsh -f", "path=($PWD/bin /usr/bin /bin); source <(wavicon completion zsh); echo on"},
      {"fish", "fish --no-config --private",
       "set -x PATH $PWD/bin /usr/bin /bin; wavicon completion fish | source; echo on"}};
  int tried = 0;
  for (const Shell& shell : shells) {
    if (!has(shell.name)) continue;
    ++tried;
    SCOPED_TRACE(shell.name);
    socket_ += "-" + shell.name;  // a server of its own: the last one may still be on its way out
    open(110, 40, shell.start);
    std::string source = shell.source;
    for (std::size_t at = 0; (at = source.find('$', at)) != std::string::npos; at += 2)
      source.insert(at, "\\");
    enter(source);
    EXPECT_TRUE(shows(" on") || shows("\non"));
    const auto becomes = [&](const std::string& typed, const std::string& meant) {
      press("C-u");
      type("clear");
      press("Enter");
      type(typed);
      press("Tab");
      EXPECT_TRUE(shows(meant, 5)) << typed;
      press("C-c");
    };
    becomes("wavicon alia", "wavicon aliasing");
    becomes("wavicon levels --rms-ref", "wavicon levels --rms-reference");
    becomes("wavicon feed x.wav --through sim:plo", "sim:plover");
    becomes("wavicon harmonics x.wav --limit thd_n_d", "thd_n_db");
    becomes("wavicon levels fir", R"(first\ take.wav)");
    becomes("wavicon feed x.wav --through 'sim:tern?dri", "sim:tern?drive=");
    tmux("kill-server 2>/dev/null");
  }
  if (tried == 0) GTEST_SKIP() << "no shell is there";
}

}  // namespace
}  // namespace wavicon::manual_test
