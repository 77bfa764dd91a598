// SPDX-License-Identifier: MIT
#pragma once
// Bounds of what is read from files, and the list of all bounds.

#include <cstdint>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/limits.hpp"

namespace wavicon {

inline constexpr std::uint64_t kMostChunks = 4096;             ///< of a WAV or AIFF file that are looked at
inline constexpr std::uint64_t kLongestChunkBytes = 4U << 20;  ///< of one that is read beside the sound
inline constexpr std::size_t kMostCues = 65536;
inline constexpr std::size_t kLongestLabelBytes = 1024;  ///< of a cue mark; longer ones are cut
inline constexpr std::size_t kMostLadderSteps = 4096;    ///< captures of one `feed`

/// One bound, as docs/limits.md shows it.
struct InputLimit {
  std::string of;      ///< "sample rate of a file"
  std::string bound;   ///< "1 kHz to 768 kHz"
  std::string beyond;  ///< what happens to what exceeds it
};
/// Every bound, in the order of the page.
[[nodiscard]] WAVICON_EXPORT std::vector<InputLimit> input_limits();
/// The page: a table in Markdown.
[[nodiscard]] WAVICON_EXPORT std::string limits_manual();

}  // namespace wavicon
