// SPDX-License-Identifier: MIT
#pragma once
// Half the interval of 95 of 100 cases, from few of them.

#include <cmath>
#include <cstddef>

namespace wavicon {

/// Student's t that 5 of 100 cases exceed, either way. Closed forms for 1 and 2 degrees of freedom; beyond,
/// the expansion in powers of 1/freedom about the normal distribution's 1.959964 (Fisher and Cornish 1960,
/// to verify): within 0.001 of tables from 4 on, 0.03 at 3.
/// @param freedom  1 and more.
[[nodiscard]] inline double student_95(std::size_t freedom) {
  if (freedom <= 1) return 12.7062;
  if (freedom == 2) return 4.30265;
  if (freedom == 3) return 3.18245;
  constexpr double z = 1.959964, z2 = z * z;
  const auto n = static_cast<double>(freedom);
  const double first = z * (z2 + 1) / 4, second = z * (5 * z2 * z2 + 16 * z2 + 3) / 96,
               third = z * (3 * z2 * z2 * z2 + 19 * z2 * z2 + 17 * z2 - 15) / 384;
  return z + first / n + second / (n * n) + third / (n * n * n);
}

/// 95 of 100 cases lie within so much of the mean of values, which do not depend on each other.
/// @return 0 for fewer than two.
template <typename Values>
[[nodiscard]] double uncertainty_of_mean(const Values& values) {
  const auto count = static_cast<double>(values.size());
  if (values.size() < 2) return 0;
  double sum = 0, squares = 0;
  for (const double v : values) sum += v;
  const double mean = sum / count;
  for (const double v : values) squares += (v - mean) * (v - mean);
  return student_95(values.size() - 1) * std::sqrt(squares / (count - 1) / count);
}

}  // namespace wavicon
