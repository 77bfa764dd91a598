// SPDX-License-Identifier: MIT
#pragma once
// Short pieces of audio files, to be listened to on a page.

#include <cstddef>
#include <filesystem>
#include <string>
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
  double louder_db = 0;  ///< whole decibels by which its level was changed; 0: not at all
};

struct ExcerptSource {
  std::string name;
  std::filesystem::path file;
  bool residual = false;  ///< of the others: it has a gain of its own
};

/// Ten seconds of each file: where it is loudest, or, of one timeline, where the first residual is, else the
/// last file. All but residuals have one gain: up where their peak is below -30 dBFS, down where it exceeds
/// full scale.
///
/// @param one_timeline  frame n of each is the same moment. @param sources  those beyond kMostExcerpts are
/// left out, channels beyond two too. @throws Error as AudioReader and AudioWriter.
[[nodiscard]] WAVICON_EXPORT std::vector<Excerpt> excerpts(const std::vector<ExcerptSource>& sources,
                                                           bool one_timeline);

}  // namespace wavicon
