// SPDX-License-Identifier: MIT
#pragma once
// Which files are compared with which: each with every other one, or folders of the same takes.

#include <cstddef>
#include <filesystem>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/row_layout.hpp"

namespace wavicon {

/// Whether the ending is that of an audio file that can be read.
[[nodiscard]] WAVICON_EXPORT bool is_audio_name(const std::filesystem::path& file);

/// Every audio file in a folder, by name. @param below  in those inside it, too.
/// @throws Error bad_input for a folder that cannot be read.
[[nodiscard]] WAVICON_EXPORT std::vector<std::filesystem::path> audio_files_in(
    const std::filesystem::path& folder, bool below = false);

struct FilePair {
  std::string a, b;
};

/// Pairs in the order in which they are measured, and where each stands.
struct FilePairs {
  std::vector<FilePair> pairs;
  PairGrid grid;
};

/// Each file with every one behind it: rows and columns are the files.
/// @throws Error bad_argument for fewer than two.
[[nodiscard]] WAVICON_EXPORT FilePairs every_pair(const std::vector<std::string>& files);

/// Files of the first folder against those of the same name in each other one: rows are the files, columns
/// the other folders.
///
/// @throws Error bad_argument for fewer than two folders; bad_input where a folder holds no audio, or lacks a
/// file that the first one has.
[[nodiscard]] WAVICON_EXPORT FilePairs folder_pairs(const std::vector<std::string>& folders);

}  // namespace wavicon
