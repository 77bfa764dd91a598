// SPDX-License-Identifier: MIT
#pragma once
// Small things that are asked of runs of samples. Internal to `intake`.

#include <algorithm>
#include <cmath>
#include <complex>
#include <span>
#include <vector>

namespace wavicon::intake_detail {

/// Highest magnitude; 0 for none.
[[nodiscard]] inline double peak_of(std::span<const double> x) {
  double peak = 0;
  for (const double v : x) peak = std::max(peak, std::abs(v));
  return peak;
}

/// Root of the mean square, full scale = 1; 0 for none.
[[nodiscard]] inline double rms_of(std::span<const double> x) {
  double sum = 0;
  for (const double v : x) sum += v * v;
  return x.empty() ? 0 : std::sqrt(sum / static_cast<double>(x.size()));
}

/// The middle one in order, the upper of two. @param values  at least one.
[[nodiscard]] inline double median_of(std::vector<double> values) {
  const auto at = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), at, values.end());
  return *at;
}

/// Bins by which a line lies off the highest one: a parabola through the logarithms of three powers.
[[nodiscard]] inline double line_offset(double below, double here, double above) {
  constexpr double kLeast = 1e-300;
  const double p = std::log(below + kLeast), q = std::log(here + kLeast), r = std::log(above + kLeast),
               bend = p - 2 * q + r;
  return bend < 0 ? std::clamp(0.5 * (p - r) / bend, -0.5, 0.5) : 0;
}

/// Σ x[n]·y[n], in eight lanes of one order whatever the registers hold. Both are equally long.
[[nodiscard]] double sum_of_products(std::span<const double> x, std::span<const double> y);

/// Σ x[n]².
[[nodiscard]] inline double energy(std::span<const double> x) { return sum_of_products(x, x); }

/// Whether each x[n] is factor·y[n]; what is no number is nothing's. Both are equally long.
[[nodiscard]] bool are_alike(std::span<const double> x, std::span<const double> y, double factor);

/// The highest |bin|²; 0 for none.
[[nodiscard]] double highest_power(std::span<const std::complex<double>> bins);

/// Each bin times the conjugate of the other's: the spectrum of their correlation. Both are equally many.
void times_conjugates(std::span<std::complex<double>> bins, std::span<const std::complex<double>> others);

/// Σ Re(C[k] e^{jωk}): a spectrum's signal between samples. @param turn  ω, radians per bin.
[[nodiscard]] double sum_of_turned(std::span<const std::complex<double>> bins, double turn);

/// Σ x[n]·y[n + lag] at lags -(x.size() - 1) … y.size() - 1, in that order; neither empty.
[[nodiscard]] std::vector<double> correlation_of(std::span<const double> x, std::span<const double> y);

/// Complex amplitude of a sine over a stretch, weighed by a raised cosine; its phase in the middle.
///
/// @param cycles_per_frame  whole cycles in the stretch keep DC and orders of it out.
[[nodiscard]] std::complex<double> sine_amplitude(std::span<const double> x, double cycles_per_frame);

/// |Σ x[n] e^(-2πj·k·f·n)|² of the orders k = 1 … `most` of a frequency f that lie below `highest`.
///
/// @param cycles_per_frame  f; `highest` is as it is.
[[nodiscard]] std::vector<double> powers_of_orders(std::span<const double> x, double cycles_per_frame,
                                                   int most, double highest);

}  // namespace wavicon::intake_detail
