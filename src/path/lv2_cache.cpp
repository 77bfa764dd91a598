// SPDX-License-Identifier: MIT
#if WAVICON_LV2
#include "lv2_cache.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "cache_text.hpp"

namespace wavicon::path_detail {
namespace {

namespace fs = std::filesystem;

constexpr std::string_view kVersion = "wavicon-lv2 1";
constexpr std::string_view kEnd = "end";  // last line: what lacks it was not written to its end

// Of the folder and of what it says; what its binaries do is not listed.
std::string stamp_of_bundle(const fs::path& folder) {
  std::vector<std::string> stamps;
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(folder, ignored))
    if (entry.path().extension() == ".ttl")
      stamps.push_back(entry.path().filename().string() + " " + stamp_of(entry.path()));
  std::sort(stamps.begin(), stamps.end());
  std::string text = stamp_of(folder);
  for (const std::string& stamp : stamps) text += " " + stamp;
  return in_one_line(text);
}

std::vector<fs::path> split_path(const std::string& text) {
  std::vector<fs::path> folders;
  for (const std::string_view part : split(text, ':')) {
    std::string folder(part);
    const char* home = std::getenv("HOME");
    if (folder.rfind("~/", 0) == 0) folder = std::string(home == nullptr ? "" : home) + folder.substr(1);
    if (!folder.empty()) folders.emplace_back(folder);
  }
  return folders;
}

}  // namespace

std::string lv2_cache_text(const Lv2Bundles& bundles, const std::string& program) {
  std::string text = fmt::format("{}\t{}\n", kVersion, in_one_line(program));
  for (const auto& [folder, bundle] : bundles) {
    text += fmt::format("bundle\t{}\t{}\n", in_one_line(folder), bundle.stamp);
    for (const UnitListing& plugin : bundle.plugins)
      text += fmt::format("plugin\t{}\t{}\t{}\t{}\t{}\n", in_one_line(plugin.name), in_one_line(plugin.title),
                          plugin.input_count, plugin.output_count, in_one_line(plugin.refused));
  }
  return text + fmt::format("{}\n", kEnd);
}

std::optional<Lv2Bundles> parse_lv2_cache(std::string_view text, const std::string& program) {
  const auto lines = lines_between(text, fmt::format("{}\t{}", kVersion, in_one_line(program)), kEnd);
  if (!lines) return std::nullopt;
  Lv2Bundles bundles;
  Lv2Bundle* bundle = nullptr;
  for (const std::string_view line : *lines) {
    const auto parts = split(line, '\t');
    if (parts[0] == "bundle" && parts.size() == 3) {
      bundle = &bundles[std::string(parts[1])];
      bundle->stamp = parts[2];
    } else if (parts[0] == "plugin" && parts.size() == 6 && bundle != nullptr) {
      const auto in = number<int>(parts[3]), out = number<int>(parts[4]);
      if (!in || !out) return std::nullopt;
      bundle->plugins.push_back(
          {std::string(parts[1]), std::string(parts[2]), *in, *out, std::string(parts[5])});
    } else {
      return std::nullopt;
    }
  }
  return bundles;
}

Lv2Bundles bundles_in(const std::vector<fs::path>& folders) {
  Lv2Bundles bundles;
  std::error_code ignored;
  for (const fs::path& folder : folders)
    for (const auto& entry : fs::directory_iterator(folder, ignored)) {
      if (!fs::is_regular_file(entry.path() / "manifest.ttl", ignored)) continue;
      const fs::path place = fs::canonical(entry.path(), ignored);
      bundles[in_one_line(place.string())].stamp = stamp_of_bundle(place);
    }
  return bundles;
}

std::vector<fs::path> lv2_folders() {
  if (const char* path = std::getenv("LV2_PATH")) return split_path(path);
  auto folders = split_path("~/.lv2:/usr/local/lib/lv2:/usr/lib/lv2:/usr/lib64/lv2");
  std::error_code ignored;
  for (const char* root : {"/usr/lib", "/usr/local/lib"})
    for (const auto& entry : fs::directory_iterator(root, ignored))
      if (entry.path().filename().string().find("-linux-") != std::string::npos &&
          fs::is_directory(entry.path() / "lv2", ignored))
        folders.push_back(entry.path() / "lv2");
  return folders;
}

}  // namespace wavicon::path_detail
#endif
