// SPDX-License-Identifier: MIT
#pragma once
// Half the interval of k = 2, from few cases.

#include <cmath>
#include <cstddef>

namespace wavicon {

/// Student's t that 4.55 of 100 cases exceed, either way, as twice the deviation is exceeded where it is
/// known (k = 2; JCGM 100:2008, table G.2). Closed forms for 1 and 2 degrees of freedom; beyond, the
/// expansion in powers of 1/freedom about 2 (Fisher and Cornish 1960, to verify): within 0.01 of the integral
/// from 4 on.
/// @param freedom  1 and more.
[[nodiscard]] inline double student_k2(std::size_t freedom) {
  if (freedom <= 1) return 13.96773;
  if (freedom == 2) return 4.52654;
  if (freedom == 3) return 3.30682;
  constexpr double z = 2, z2 = z * z;
  const auto n = static_cast<double>(freedom);
  const double first = z * (z2 + 1) / 4, second = z * (5 * z2 * z2 + 16 * z2 + 3) / 96,
               third = z * (3 * z2 * z2 * z2 + 19 * z2 * z2 + 17 * z2 - 15) / 384;
  return z + first / n + second / (n * n) + third / (n * n * n);
}

/// 95.45 of 100 cases lie within so much of the mean of values, which do not depend on each other.
/// @return 0 for fewer than two.
template <typename Values>
[[nodiscard]] double uncertainty_of_mean(const Values& values) {
  const auto count = static_cast<double>(values.size());
  if (values.size() < 2) return 0;
  double sum = 0, squares = 0;
  for (const double v : values) sum += v;
  const double mean = sum / count;
  for (const double v : values) squares += (v - mean) * (v - mean);
  return student_k2(values.size() - 1) * std::sqrt(squares / (count - 1) / count);
}

}  // namespace wavicon
