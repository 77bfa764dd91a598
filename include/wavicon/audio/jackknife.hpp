// SPDX-License-Identifier: MIT
#pragma once
// How far a figure of a whole may be off, by leaving out one part of it after the other.

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <optional>
#include <vector>

#include "wavicon/audio/student.hpp"

namespace wavicon {

inline constexpr std::size_t kJackknifeParts = 16;

/// Half the interval that holds the figure of all such stretches in 95 of 100 cases: t·√((n-1)/n·Σ(f_i - f̄)²)
/// with f_i the figure without part i (Tukey 1958, to verify). Parts should not depend on each other.
///
/// @param sums    of many short parts in a row: gathered into sixteen at most. Sums have += and -=.
/// @param figure  of a sum.
/// @param least   parts that it takes, 2 … 16. @return none of fewer, and where a figure is not finite.
template <typename Sums, typename Figure>
[[nodiscard]] std::optional<double> jackknife(const std::vector<Sums>& sums, Figure&& figure,
                                              std::size_t least = kJackknifeParts) {
  const std::size_t count = std::min(kJackknifeParts, sums.size());
  if (count < least) return std::nullopt;
  std::vector<Sums> parts(count);
  Sums all{};
  for (std::size_t i = 0; i < sums.size(); ++i) {
    parts[i * count / sums.size()] += sums[i];
    all += sums[i];
  }
  std::vector<double> without;
  double mean = 0;
  for (const Sums& part : parts) {
    Sums rest = all;
    rest -= part;
    without.push_back(figure(rest));
    mean += without.back() / static_cast<double>(count);
  }
  double squares = 0;
  for (const double f : without) squares += (f - mean) * (f - mean);
  const double share = 1 - 1 / static_cast<double>(count),
               uncertainty = student_95(count - 1) * std::sqrt(share * squares);
  return std::isfinite(uncertainty) ? std::optional(uncertainty) : std::nullopt;
}

}  // namespace wavicon
