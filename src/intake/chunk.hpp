// SPDX-License-Identifier: MIT
#pragma once
// What a short run of samples shows at one look: cheap enough for every sample of a long capture. Internal.

#include <cstddef>
#include <cstdint>

namespace wavicon::intake_detail {

inline constexpr std::size_t kChunk = 64;    // frames looked at together
inline constexpr std::size_t kHistory = 64;  // frames before them that can be read

struct ChunkFacts {
  double sum = 0;            ///< NaN or infinite when a sample is
  double peak = 0;           ///< highest magnitude
  double jump = 0;           ///< highest magnitude of the third difference, which a smooth signal keeps small
  bool three_equal = false;  ///< a sample equals the two before it
  std::uint64_t anchors = 0;  ///< bit k: sample k is an anchor
};

/// A sample is an anchor when its bits, scrambled, hold zeros here: one in 64, the same ones in every copy of
/// a signal.
inline constexpr std::uint64_t kAnchorBits = std::uint64_t{63} << 29;

/// @param x  kChunk samples; three before them can be read.
[[nodiscard]] ChunkFacts examine(const double* x) noexcept;

/// Bits of 24-bit codes: those that are set in any sample, those that are set in all of them.
struct CodeBits {
  std::uint32_t any = 0;
  std::uint32_t all = 0xFFFFFF;
  bool fits = true;  ///< every sample is a 24-bit code
  void take(const double* x) noexcept;
};

}  // namespace wavicon::intake_detail
