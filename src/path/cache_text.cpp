// SPDX-License-Identifier: MIT
#include "cache_text.hpp"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <fstream>

#include "wavicon/audio/limits.hpp"

namespace wavicon::path_detail {

namespace fs = std::filesystem;

std::vector<std::string_view> split(std::string_view line, char by) {
  std::vector<std::string_view> parts;
  for (std::size_t at = 0;;) {
    const std::size_t end = line.find(by, at);
    parts.push_back(line.substr(at, end - at));
    if (end == std::string_view::npos) return parts;
    at = end + 1;
  }
}

std::string in_one_line(const std::string& text) {
  std::string line = text;
  for (char& c : line)
    if (static_cast<unsigned char>(c) < 0x20) c = ' ';
  return line;
}

std::optional<std::vector<std::string_view>> lines_between(std::string_view text, std::string_view first,
                                                           std::string_view last) {
  auto lines = split(text, '\n');
  // Behind the last line feed there is nothing.
  if (lines.size() < 3 || lines.front() != first || !lines.back().empty() || lines[lines.size() - 2] != last)
    return std::nullopt;
  return std::vector<std::string_view>(lines.begin() + 1, lines.end() - 2);
}

std::string stamp_of(const fs::path& file) {
  struct stat times {};
  if (::stat(file.c_str(), &times) != 0) return "none";
  return fmt::format("{}.{:09} {}", times.st_mtim.tv_sec, times.st_mtim.tv_nsec, times.st_size);
}

fs::path cache_file(const std::string& name) {
  const char *cache = std::getenv("XDG_CACHE_HOME"), *home = std::getenv("HOME");
  if (cache != nullptr && *cache != '\0') return fs::path(cache) / "wavicon" / name;
  if (home != nullptr && *home != '\0') return fs::path(home) / ".cache" / "wavicon" / name;
  return {};
}

std::string kept_text(const fs::path& file) {
  std::error_code failure;
  const auto size = fs::file_size(file, failure);
  if (failure || size > kLongestCacheBytes) return "";
  std::ifstream stream(file, std::ios::binary);
  std::string text(size, '\0');
  stream.read(text.data(), static_cast<std::streamsize>(size));
  text.resize(static_cast<std::size_t>(stream.gcount()));
  return text;
}

void keep_text(const fs::path& file, const std::string& text) {
  if (file.empty() || text.size() > kLongestCacheBytes) return;
  std::error_code failure;
  fs::create_directories(file.parent_path(), failure);
  const fs::path partial = file.string() + fmt::format(".{}", ::getpid());
  std::ofstream out(partial, std::ios::binary);
  out << text;
  out.close();
  if (out.good()) fs::rename(partial, file, failure);
  fs::remove(partial, failure);
}

}  // namespace wavicon::path_detail
