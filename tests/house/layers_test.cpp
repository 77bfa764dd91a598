// The house rules that a machine can check: who may use whom, and what stands in one place only.

#include <map>
#include <regex>
#include <set>

#include "support.hpp"

namespace wavicon {
namespace {

namespace fs = std::filesystem;

const fs::path kSource = WAVICON_SOURCE_DIR;

// Folder -> our folders and foreign headers (by prefix) that it may include besides the standard library,
// itself and fmt.
const std::map<std::string, std::set<std::string>> kMayUse = {
    {"audio", {"Eigen/", "unsupported/Eigen/", "fftw3.h"}},
    {"stimulus", {"audio", "toml++/"}},
    {"sheet", {"audio"}},
    {"intake", {"audio", "stimulus", "sheet"}},
    {"measure", {"audio", "stimulus", "intake", "sheet", "ebur128.h"}},
    {"file", {"audio", "stimulus", "sheet", "sndfile.h", "nlohmann/", "unistd.h"}},
    {"path",
     {"audio", "lilv/", "lv2/", "ladspa.h", "jack/", "dlfcn.h", "fcntl.h", "linux/", "poll.h", "signal.h",
      "sys/", "unistd.h"}},
    {"present", {"audio", "sheet", "unistd.h", "sys/wait.h"}},
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
  EXPECT_FALSE(allowed("present", {"x.cpp", "wavicon/measure/harmonics.hpp", true}));
}

TEST(Layers, EveryFolderHasARow) {
  for (const auto& entry : fs::directory_iterator(kSource / "src"))
    EXPECT_EQ(kMayUse.count(entry.path().filename().string()), 1U) << entry.path();
}

TEST(Layers, PublicHeadersNeedOnlyTheStandardLibraryAndUs) {
  for (const Include& include : includes_of(kSource / "include")) {
    const bool standard =
        include.what.find('.') == std::string::npos && include.what.find('/') == std::string::npos;
    EXPECT_TRUE(standard || include.what.rfind("wavicon/", 0) == 0)
        << include.file << " includes " << include.what;
  }
}

TEST(Layers, DecibelsAreComputedInOnePlace) {
  for (const char* folder : {"src", "include", "cli"})
    for (const auto& entry : fs::recursive_directory_iterator(kSource / folder)) {
      if (!entry.is_regular_file() || entry.path().filename() == "decibels.hpp") continue;
      EXPECT_EQ(testing::read_text(entry.path()).find("log10("), std::string::npos) << entry.path();
    }
}

TEST(Layers, TheCoreWritesNothing) {
  static const std::regex output(R"(\b(printf|fprintf|cout|cerr|ofstream|fopen)\b)");
  for (const char* folder : {"audio", "stimulus", "sheet", "intake", "measure"})
    for (const auto& entry : fs::recursive_directory_iterator(kSource / "src" / folder))
      EXPECT_FALSE(std::regex_search(testing::read_text(entry.path()), output)) << entry.path();
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
}  // namespace wavicon
