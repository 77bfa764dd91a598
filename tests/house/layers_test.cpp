// SPDX-License-Identifier: MIT
// The house rules that a machine can check: who may use whom, and what stands in one place only.

#include <cctype>
#include <map>
#include <regex>
#include <set>

#include "support.hpp"

namespace wavicon::layers_test {
namespace {

namespace fs = std::filesystem;

const fs::path kSource = WAVICON_SOURCE_DIR;

// Folder -> our folders and foreign headers (by prefix) that it may include besides the standard library,
// itself and fmt.
const std::map<std::string, std::set<std::string>> kMayUse = {
    {"audio", {"Eigen/", "unsupported/Eigen/", "fftw3.h", "immintrin.h"}},
    {"stimulus", {"audio", "toml++/"}},
    {"sheet", {"audio"}},
    {"intake", {"audio", "stimulus", "sheet"}},
    {"measure", {"audio", "stimulus", "intake", "sheet"}},
    {"file",
     {"audio", "stimulus", "sheet", "intake", "version.hpp", "sndfile.h", "nettle/", "nlohmann/", "unistd.h",
      "fcntl.h", "sys/stat.h"}},
    {"bench",
     {"audio", "stimulus", "intake", "sheet", "measure", "file", "path", "soci/", "toml++/", "nlohmann/",
      "fcntl.h", "poll.h", "signal.h", "sys/", "unistd.h"}},
    {"path",
     {"audio", "version.hpp", "lilv/", "lv2/", "ladspa.h", "jack/", "dlfcn.h", "elf.h", "fcntl.h", "link.h",
      "linux/", "poll.h", "pthread.h", "semaphore.h", "signal.h", "sys/", "unistd.h"}},
    {"testing", {"audio", "stimulus", "intake", "measure", "sheet", "path", "present", "gmock/"}},
    {"live",
     {"audio", "stimulus", "intake", "measure", "sheet", "path", "present", "curses.h", "langinfo.h",
      "signal.h", "termios.h", "unistd.h"}},
    {"present",
     {"audio", "sheet", "cmark.h", "fcntl.h", "nettle/", "signal.h", "spawn.h", "unistd.h", "sys/"}},
};

struct Include {
  fs::path file;
  std::string what;
  bool quotes;
};

std::vector<Include> includes_of(const fs::path& folder) {
  static const std::regex pattern(R"(^\s*#include\s*([<"])([^>"]+)[>"])");
  std::vector<Include> found;
  for (const auto& entry : fs::recursive_directory_iterator(folder)) {
    if (entry.path().extension() != ".cpp" && entry.path().extension() != ".hpp") continue;
    std::ifstream stream(entry.path());
    for (std::string line; std::getline(stream, line);) {
      std::smatch match;
      if (std::regex_search(line, match, pattern))
        found.push_back({entry.path(), match[2], match[1] == "\""});
    }
  }
  return found;
}

bool allowed(const std::string& folder, const Include& include) {
  const auto& may = kMayUse.at(folder);
  if (include.quotes) {
    const auto slash = include.what.find('/');
    if (slash == std::string::npos) return true;  // beside the file itself
    const bool ours = include.what.rfind("wavicon/", 0) == 0;
    const std::string rest = ours ? include.what.substr(8) : include.what;
    const std::string used = rest.substr(0, rest.find('/'));
    return used == folder || may.count(used) != 0;
  }
  if (include.what.find('/') == std::string::npos && include.what.find('.') == std::string::npos)
    return true;  // standard
  if (include.what.rfind("fmt/", 0) == 0) return true;
  for (const std::string& prefix : may)
    if (include.what.rfind(prefix, 0) == 0) return true;
  return false;
}

TEST(Layers, EachFolderUsesOnlyWhatItsRowAllows) {
  std::size_t count = 0;
  for (const auto& [folder, may] : kMayUse)
    for (const fs::path& root : {kSource / "src" / folder, kSource / "include/wavicon" / folder})
      for (const Include& include : includes_of(root)) {
        EXPECT_TRUE(allowed(folder, include)) << include.file << " includes " << include.what;
        ++count;
      }
  EXPECT_GT(count, 100U);
  EXPECT_FALSE(allowed("audio", {"x.cpp", "wavicon/file/audio_file.hpp", true}));
  EXPECT_FALSE(allowed("measure", {"x.cpp", "sndfile.h", false}));
  EXPECT_FALSE(allowed("present", {"x.cpp", "wavicon/measure/harmonics/harmonics.hpp", true}));
}

TEST(Layers, EveryFolderHasARow) {
  for (const auto& entry : fs::directory_iterator(kSource / "src"))
    EXPECT_EQ(kMayUse.count(entry.path().filename().string()), 1U) << entry.path();
}

TEST(Layers, PublicHeadersNeedOnlyTheStandardLibraryAndUs) {
  for (const Include& include : includes_of(kSource / "include")) {
    // Matchers are of GoogleTest, and no library of ours needs it.
    if (include.file.filename() == "gtest.hpp" && include.what == "gmock/gmock.h") continue;
    const bool standard =
        include.what.find('.') == std::string::npos && include.what.find('/') == std::string::npos;
    EXPECT_TRUE(standard || include.what.rfind("wavicon/", 0) == 0)
        << include.file << " includes " << include.what;
  }
}

TEST(Layers, DecibelsAreComputedInOnePlace) {
  for (const char* folder : {"src", "include", "cli"})
    for (const auto& entry : fs::recursive_directory_iterator(kSource / folder)) {
      // Tables of readings name formulas in words.
      if (!entry.is_regular_file() || entry.path().filename() == "decibels.hpp" ||
          entry.path().stem().string().ends_with("readings"))
        continue;
      EXPECT_EQ(testing::read_text(entry.path()).find("log10("), std::string::npos) << entry.path();
    }
}

TEST(Layers, TheCoreWritesNothing) {
  static const std::regex output(R"(\b(printf|fprintf|cout|cerr|ofstream|fopen)\b)");
  for (const char* folder : {"audio", "stimulus", "sheet", "intake", "measure"})
    for (const auto& entry : fs::recursive_directory_iterator(kSource / "src" / folder))
      if (entry.is_regular_file()) {
        EXPECT_FALSE(std::regex_search(testing::read_text(entry.path()), output)) << entry.path();
      }
}

// Text without comments, so that words in them do not count.
std::string code_of(const fs::path& file) {
  static const std::regex comment(R"(//[^\n]*)");
  return std::regex_replace(testing::read_text(file), comment, "");
}

// What is wrong with a source file of intake or measure: a reading made without its entry of the catalogue.
bool writes_a_unit(const std::string& code) {
  static const std::regex by_hand(
      R"(\bReading\s*(\w+\s*)?\{|readings\.(push_back|emplace_back|insert)\(|\w\.unit\s*=[^=])");
  std::smatch match;
  std::string rest = code;
  while (std::regex_search(rest, match, by_hand)) {
    // A reading that already is one may be handed on.
    if (match.suffix().str().rfind("*first)", 0) != 0 && match.str().find("struct") == std::string::npos)
      return true;
    rest = match.suffix();
  }
  return false;
}

TEST(Layers, UnitsStandInTheCatalogueAlone) {
  for (const char* folder : {"intake", "measure"})
    for (const auto& entry : fs::recursive_directory_iterator(kSource / "src" / folder)) {
      const bool table = entry.path().stem().string().ends_with("readings");
      if (entry.is_regular_file() && !table) {
        EXPECT_FALSE(writes_a_unit(code_of(entry.path()))) << entry.path();
      }
    }
  EXPECT_TRUE(writes_a_unit(R"(sheet.readings.push_back({"rms_dbfs", 0, 1.0, "dBFS"});)"));
  EXPECT_TRUE(writes_a_unit(R"(Reading r{"rms_dbfs", 0, 1.0, "dBFS"};)"));
  EXPECT_TRUE(writes_a_unit(R"(reading.unit = "dB";)"));
  EXPECT_FALSE(writes_a_unit(R"(sheet.add("rms_dbfs", 0, 1.0);)"));
}

// Arithmetic that belongs into the core: on samples, levels, spectra.
bool computes(const std::string& code) {
  static const std::regex arithmetic(
      R"(#include <(cmath|numeric|complex|numbers)>|decibels\.hpp|for_each_block|std::(sqrt|log|pow|exp|inner_product|accumulate)\b|#include "wavicon/measure/(?!measurement_list))");
  return std::regex_search(code, arithmetic);
}

TEST(Layers, TheProgramDoesNoArithmeticOnSamples) {
  for (const auto& entry : fs::directory_iterator(kSource / "cli"))
    if (entry.path().extension() == ".cpp" || entry.path().extension() == ".hpp") {
      EXPECT_FALSE(computes(code_of(entry.path()))) << entry.path();
    }
  EXPECT_TRUE(computes("energy = std::inner_product(a, b, a, 0.0);"));
  EXPECT_TRUE(computes("#include \"wavicon/measure/levels/levels.hpp\""));
  EXPECT_FALSE(computes("#include \"wavicon/measure/measurement_list.hpp\""));
}

// Constants (kName) of a file: those that it defines, and all that stand in it.
struct Constants {
  std::set<std::string> defined, named;
};

Constants constants_of(const fs::path& file) {
  Constants found;
  const std::string code = code_of(file);
  const auto is_word = [&](std::size_t at) {
    return at < code.size() && (std::isalnum(static_cast<unsigned char>(code[at])) != 0 || code[at] == '_');
  };
  bool constant = false;  // within a statement that says const or constexpr
  char before = ' ';      // the last one that is no space
  std::string last;       // word
  for (std::size_t at = 0; at < code.size();) {
    if (!is_word(at)) {
      if (code[at] == ';') constant = false;
      if (std::isspace(static_cast<unsigned char>(code[at])) == 0) before = code[at];
      ++at;
      continue;
    }
    std::size_t end = at;
    while (is_word(end)) ++end;
    const std::string word = code.substr(at, end - at);
    constant = constant || word == "const" || word == "constexpr";
    if (word.size() > 1 && word[0] == 'k' && std::isupper(static_cast<unsigned char>(word[1])) != 0) {
      found.named.insert(word);
      const std::size_t next = code.find_first_not_of(" \n", end);
      const bool parameter = last == "size_t" || last == "bool" || last == "int";  // of a template
      const bool declared = std::isalnum(static_cast<unsigned char>(before)) != 0 ||
                            std::string(">*&,").find(before) != std::string::npos;
      if (parameter) found.defined.insert(word);
      if (constant && declared && next != std::string::npos &&
          std::string("={[").find(code[next]) != std::string::npos && code.compare(next, 2, "==") != 0)
        found.defined.insert(word);
    }
    before = code[end - 1];
    last = word;
    at = end;
  }
  return found;
}

// Sources are compiled in bundles, in which the constant of another one would be found without a word.
TEST(Layers, ConstantsAreDefinedInTheirFileOrInAHeader) {
  std::map<fs::path, Constants> sources;
  std::set<std::string> shared;
  std::map<std::string, fs::path> elsewhere;
  for (const char* folder : {"src", "include", "cli", "tests"})
    for (const auto& entry : fs::recursive_directory_iterator(kSource / folder)) {
      const bool source = entry.path().extension() == ".cpp";
      if (!source && entry.path().extension() != ".hpp") continue;
      Constants found = constants_of(entry.path());
      if (!source) {
        shared.merge(found.defined);
        continue;
      }
      for (const std::string& name : found.defined) elsewhere[name] = entry.path();
      sources[entry.path()] = std::move(found);
    }
  EXPECT_GT(elsewhere.size(), 500U);
  for (const auto& [file, constants] : sources)
    for (const std::string& name : constants.named)
      if (constants.defined.count(name) == 0 && shared.count(name) == 0 && elsewhere.count(name) != 0) {
        ADD_FAILURE() << file << " names " << name << ", which is defined in " << elsewhere[name];
      }
}

TEST(Layers, EverySourceNamesItsLicence) {
  std::size_t count = 0;
  for (const char* folder : {"src", "include", "cli", "tests", "examples", "benchmarks", "plugins", "cmake"})
    for (const auto& entry : fs::recursive_directory_iterator(kSource / folder)) {
      static const std::set<std::string> kSources = {".cpp", ".hpp", ".h", ".cmake", ".in", ".txt"};
      if (!entry.is_regular_file() || kSources.count(entry.path().extension().string()) == 0) continue;
      EXPECT_NE(testing::read_text(entry.path()).substr(0, 200).find("SPDX-License-Identifier: MIT"),
                std::string::npos)
          << entry.path();
      ++count;
    }
  EXPECT_GT(count, 300U);
}

TEST(Layers, EveryMeasurementOwnsAFolderAndAPage) {
  const std::string list = testing::read_text(kSource / "src/measure/measurement_list.cpp");
  static const std::regex line(R"(X\((\w+)\))");
  std::set<std::string> named;
  for (std::sregex_iterator match(list.begin(), list.end(), line), end; match != end; ++match)
    named.insert((*match)[1]);
  EXPECT_GT(named.size(), 10U);
  for (const auto& entry : fs::directory_iterator(kSource / "src/measure")) {
    if (!entry.is_directory() || entry.path().filename() == "common") continue;
    const std::string name = entry.path().filename().string();
    EXPECT_EQ(named.count(name), 1U) << name << " is not in the list";
    EXPECT_TRUE(fs::exists(kSource / "docs" / (name + ".md"))) << name << " has no page";
    EXPECT_TRUE(fs::exists(entry.path() / "measurement.cpp")) << name;
    EXPECT_TRUE(fs::exists(entry.path() / "readings.cpp")) << name;
  }
}

TEST(Manual, NamesEveryKeyOfARecipe) {
  const std::string manual = testing::read_text(kSource / "docs/recipes.md");
  static const std::regex pattern(R"re(visit\("(\w+)")re");
  int count = 0;
  for (const char* header : {"parts.hpp", "recipe.hpp"}) {
    const std::string text = testing::read_text(kSource / "include/wavicon/stimulus" / header);
    for (std::sregex_iterator match(text.begin(), text.end(), pattern), end; match != end; ++match, ++count)
      EXPECT_NE(manual.find("`" + (*match)[1].str() + "`"), std::string::npos) << (*match)[1];
  }
  EXPECT_GT(count, 60);
}

}  // namespace
}  // namespace wavicon::layers_test
