// SPDX-License-Identifier: MIT
#pragma once
// Random numbers by position: the value for a seed, a stream and an index is computed directly, so that audio
// rendered in blocks of any size, in any order, on any machine holds the same bits.

#include <cstdint>

namespace wavicon {

/// 64 random bits for a position. Source: the finaliser of SplitMix64 (Steele, Lea, Flood, OOPSLA 2014, to
/// verify), applied twice so that neighbouring seeds and streams are unrelated.
[[nodiscard]] constexpr std::uint64_t random_bits(std::uint64_t seed, std::uint64_t stream,
                                                  std::uint64_t index) noexcept {
  constexpr std::uint64_t kGolden = 0x9E3779B97F4A7C15;  // 2^64 / golden ratio
  auto mix = [](std::uint64_t z) {
    z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9;
    z = (z ^ (z >> 27)) * 0x94D049BB133111EB;
    return z ^ (z >> 31);
  };
  return mix(mix(seed + kGolden * (stream + 1)) + kGolden * (index + 1));
}

/// Uniform in [0, 1), 53 bits.
[[nodiscard]] constexpr double random_uniform(std::uint64_t seed, std::uint64_t stream,
                                              std::uint64_t index) noexcept {
  return static_cast<double>(random_bits(seed, stream, index) >> 11) * 0x1p-53;
}

/// Triangular in (-1, +1): the difference of two uniform values of 32 bits; variance 1/6.
[[nodiscard]] constexpr double random_triangular(std::uint64_t seed, std::uint64_t stream,
                                                 std::uint64_t index) noexcept {
  const std::uint64_t bits = random_bits(seed, stream, index);
  return (static_cast<double>(static_cast<std::uint32_t>(bits >> 32)) -
          static_cast<double>(static_cast<std::uint32_t>(bits))) *
         0x1p-32;
}

}  // namespace wavicon
