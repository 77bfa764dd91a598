// SPDX-License-Identifier: MIT
#pragma once
// How far a figure of a whole may be off, by leaving out one part of it after the other. Internal to
// `measure`.

#include <cmath>
#include <cstddef>
#include <optional>
#include <vector>

#include "wavicon/audio/student.hpp"

namespace wavicon::measure_detail {

inline constexpr std::size_t kJackknifeParts = 16;

/// Half the interval that holds the figure of all such stretches in 95 of 100 cases: t·√((n-1)/n·Σ(f_i - f̄)²)
/// with f_i the figure without part i (Tukey 1958, to verify). Parts should not depend on each other.
///
/// @param sums  of many short parts in a row: gathered into sixteen. Sums have += and -=.
/// @param figure  of a sum. @return none of fewer than sixteen parts, and where a figure is not finite.
template <typename Sums, typename Figure>
[[nodiscard]] std::optional<double> jackknife(const std::vector<Sums>& sums, Figure&& figure) {
  if (sums.size() < kJackknifeParts) return std::nullopt;
  std::vector<Sums> parts(kJackknifeParts);
  Sums all{};
  for (std::size_t i = 0; i < sums.size(); ++i) {
    parts[i * kJackknifeParts / sums.size()] += sums[i];
    all += sums[i];
  }
  std::vector<double> without;
  double mean = 0;
  for (const Sums& part : parts) {
    Sums rest = all;
    rest -= part;
    without.push_back(figure(rest));
    mean += without.back() / static_cast<double>(kJackknifeParts);
  }
  double squares = 0;
  for (const double f : without) squares += (f - mean) * (f - mean);
  constexpr auto kCount = static_cast<double>(kJackknifeParts);
  const double uncertainty = student_95(kJackknifeParts - 1) * std::sqrt((kCount - 1) / kCount * squares);
  return std::isfinite(uncertainty) ? std::optional(uncertainty) : std::nullopt;
}

}  // namespace wavicon::measure_detail
