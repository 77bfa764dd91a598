// SPDX-License-Identifier: MIT
#pragma once
// Bounds of what is taken from outside. Those of files stand in wavicon/file/limits.hpp, and docs/limits.md
// lists them all.

#include <cstddef>
#include <cstdint>

#include "wavicon/audio/plain_text.hpp"

namespace wavicon {

inline constexpr double kLowestCaptureRateHz = 1000;  ///< of a file; stimuli are made from 8 kHz up
inline constexpr double kLowestSampleRateHz = 8000;   ///< of a stimulus
inline constexpr double kHighestSampleRateHz = 768000;
inline constexpr int kMostChannels = 1024;
/// Samples that are read into memory at once (4 GiB): what needs more is measured in pieces.
inline constexpr std::int64_t kMostSamplesAtOnce = std::int64_t{1} << 29;

inline constexpr std::size_t kLongestRecipeBytes = std::size_t{1} << 20;
inline constexpr std::size_t kMostParts = 4096;        ///< of a recipe
inline constexpr std::size_t kMostOscillators = 1024;  ///< of a multitone
inline constexpr std::size_t kMostListed = 4096;       ///< values of one list, and steps of a staircase

inline constexpr std::size_t kLongestUnitBytes = 4096;                   ///< SCHEME:NAME?setting=value&…
inline constexpr std::size_t kLongestCacheBytes = std::size_t{1} << 24;  ///< what is kept of plugins

}  // namespace wavicon
