// SPDX-License-Identifier: MIT
#pragma once
// How far a figure of a whole may be off, by leaving out one part of it after the other.

#include <algorithm>
#include <array>
#include <cmath>
#include <cstddef>
#include <optional>
#include <vector>

#include "wavicon/audio/student.hpp"

namespace wavicon {

inline constexpr std::size_t kJackknifeParts = 16;

/// Sums over a part, such as Σxx, Σyy, Σxy.
template <std::size_t count>
using PartSums = std::array<double, count>;

/// Adds sign times one to the other.
template <std::size_t count>
void add_sums(PartSums<count>& to, const PartSums<count>& one, double sign = 1) {
  for (std::size_t i = 0; i < count; ++i) to[i] += sign * one[i];
}

/// Half the interval that holds the figure of all such stretches in 95 of 100 cases: t·√((n-1)/n·Σ(f_i - f̄)²)
/// with f_i the figure without part i (Tukey 1958, to verify). Parts should not depend on each other.
///
/// @param sums    of many short parts in a row: gathered into sixteen at most.
/// @param figure  of a sum.
/// @param least   parts that it takes, 2 … 16. @return none of fewer, and where a figure is not finite.
template <std::size_t width, typename Figure>
[[nodiscard]] std::optional<double> jackknife(const std::vector<PartSums<width>>& sums, Figure&& figure,
                                              std::size_t least = kJackknifeParts) {
  const std::size_t count = std::min(kJackknifeParts, sums.size());
  if (count < least) return std::nullopt;
  std::vector<PartSums<width>> parts(count);
  PartSums<width> all{};
  for (std::size_t i = 0; i < sums.size(); ++i) {
    add_sums(parts[i * count / sums.size()], sums[i]);
    add_sums(all, sums[i]);
  }
  std::vector<double> without;
  double mean = 0;
  for (const auto& part : parts) {
    auto rest = all;
    add_sums(rest, part, -1);
    without.push_back(figure(rest));
    mean += without.back() / static_cast<double>(count);
  }
  double squares = 0;
  for (const double f : without) squares += (f - mean) * (f - mean);
  const double share = 1 - 1 / static_cast<double>(count),
               uncertainty = student_k2(count - 1) * std::sqrt(share * squares);
  return std::isfinite(uncertainty) ? std::optional(uncertainty) : std::nullopt;
}

}  // namespace wavicon
