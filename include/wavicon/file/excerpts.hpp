// SPDX-License-Identifier: MIT
#pragma once
// Short pieces of audio files, to be listened to on a page.

#include <cstddef>
#include <filesystem>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

inline constexpr double kLongestExcerptS = 10;
inline constexpr std::size_t kMostExcerpts = 8;

struct Excerpt {
  std::string name;
  std::string flac;   ///< bytes of a FLAC file, 16 bits
  double from_s = 0;  ///< in the file
  double seconds = 0;
  double louder_db = 0;  ///< whole decibels by which it was made louder to be heard; 0: it is as it was
};

/// The loudest ten seconds of each file; of files of one length the same ten, where the last is loudest: A, B
/// and what is left of them go along together. What peaks below -30 dBFS is made louder, and says so.
///
/// @param files  names and places; those beyond kMostExcerpts are left out, channels beyond two too.
/// @throws Error as AudioReader and AudioWriter.
[[nodiscard]] WAVICON_EXPORT std::vector<Excerpt> excerpts(
    const std::vector<std::pair<std::string, std::filesystem::path>>& files);

}  // namespace wavicon
