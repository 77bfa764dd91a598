// SPDX-License-Identifier: MIT
#include "wavicon/file/file_pairs.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <string_view>
#include <system_error>

#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

namespace fs = std::filesystem;

constexpr std::array<std::string_view, 7> kEndings = {".wav", ".aif",  ".aiff", ".flac",
                                                      ".w64", ".rf64", ".caf"};

template <typename Iterator>
void add_audio(Iterator at, std::error_code& failure, std::vector<fs::path>& files) {
  std::error_code ignored;
  for (const Iterator end; !failure && at != end; at.increment(failure))
    if (at->is_regular_file(ignored) && is_audio_name(at->path())) files.push_back(at->path());
}

// Names without folder and ending, where that tells them apart.
std::vector<std::string> short_names(const std::vector<std::string>& files) {
  std::vector<std::string> names;
  for (const std::string& file : files) names.push_back(fs::path(file).stem().string());
  std::vector<std::string> sorted = names;
  std::sort(sorted.begin(), sorted.end());
  return std::adjacent_find(sorted.begin(), sorted.end()) == sorted.end() ? names : files;
}

}  // namespace

bool is_audio_name(const fs::path& file) {
  std::string ending = file.extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return std::find(kEndings.begin(), kEndings.end(), ending) != kEndings.end();
}

std::vector<fs::path> audio_files_in(const fs::path& folder, bool below) {
  std::vector<fs::path> files;
  std::error_code failure;
  if (below)
    add_audio(fs::recursive_directory_iterator(folder, failure), failure, files);
  else
    add_audio(fs::directory_iterator(folder, failure), failure, files);
  if (failure)
    throw Error(ErrorCode::bad_input,
                fmt::format("{}: cannot be read ({})", folder.string(), failure.message()));
  std::sort(files.begin(), files.end());
  return files;
}

FilePairs every_pair(const std::vector<std::string>& files) {
  if (files.size() < 2) throw Error(ErrorCode::bad_argument, "pairs take at least two files");
  FilePairs found;
  found.grid.rows = found.grid.columns = short_names(files);
  for (std::size_t i = 0; i < files.size(); ++i)
    for (std::size_t k = i + 1; k < files.size(); ++k) {
      found.pairs.push_back({files[i], files[k]});
      found.grid.places.emplace_back(i, k);
    }
  return found;
}

FilePairs folder_pairs(const std::vector<std::string>& folders) {
  if (folders.size() < 2) throw Error(ErrorCode::bad_argument, "folders are compared by twos or more");
  FilePairs found;
  for (std::size_t f = 1; f < folders.size(); ++f) {
    const fs::path folder = folders[f];
    found.grid.columns.push_back((folder.has_filename() ? folder : folder.parent_path()).filename().string());
  }
  const auto own = audio_files_in(folders.front());
  if (own.empty())
    throw Error(ErrorCode::bad_input, fmt::format("{}: there is no audio file in it", folders.front()));
  for (std::size_t row = 0; row < own.size(); ++row) {
    found.grid.rows.push_back(own[row].stem().string());
    for (std::size_t f = 1; f < folders.size(); ++f) {
      const auto others = audio_files_in(folders[f]);
      const auto same = std::find_if(others.begin(), others.end(),
                                     [&](const fs::path& other) { return other.stem() == own[row].stem(); });
      if (same == others.end())
        throw Error(
            ErrorCode::bad_input,
            fmt::format("{}: there is no '{}' in it, which {} has: files are compared with those of the "
                        "same name",
                        folders[f], own[row].stem().string(), folders.front()));
      found.pairs.push_back({own[row].string(), same->string()});
      found.grid.places.emplace_back(row, f - 1);
    }
  }
  return found;
}

}  // namespace wavicon
