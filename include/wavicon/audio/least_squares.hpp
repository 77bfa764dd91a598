// SPDX-License-Identifier: MIT
#pragma once
// Fits of a few parameters to many values.

#include <cstddef>
#include <functional>
#include <optional>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A parameter, where to start and how far it may go.
struct FitParameter {
  double start = 0;
  double low = 0;  ///< below high
  double high = 1;
};

struct LeastSquaresFit {
  std::vector<double> parameters;
  double rms = 0;  ///< of what is left
};

/// Writes one residual for each value to be met.
using Residuals = std::function<void(std::span<const double> parameters, std::span<double> residuals)>;

/// Levenberg-Marquardt with numerical derivatives; bounds are kept by a sine of each parameter.
///
/// @param count  residuals, at least as many as parameters. Finite for all parameters within the bounds.
/// @return a minimum near the start; the lowest one is for the caller to find, by several starts.
[[nodiscard]] WAVICON_EXPORT LeastSquaresFit fit_least_squares(const Residuals& residuals, std::size_t count,
                                                               std::span<const FitParameter> parameters);

/// Standard deviations of the parameters at a minimum, from what is left: √(s²·((JᵀJ)⁻¹)ᵢᵢ·(1 + r)/(1 - r)),
/// with s² the residuals' squares over count - parameters, r ≥ 0 how far neighbours among them are alike, and
/// J by differences of `steps` (linear propagation; Draper and Smith, to verify).
///
/// @param at     the parameters of the minimum. @param steps  of each, above 0.
/// @param least  standard deviation of a residual that is known from elsewhere, at least.
/// @return none where the parameters cannot be told apart, or there are no more residuals than parameters.
[[nodiscard]] WAVICON_EXPORT std::optional<std::vector<double>> fit_deviations(const Residuals& residuals,
                                                                               std::size_t count,
                                                                               std::span<const double> at,
                                                                               std::span<const double> steps,
                                                                               double least = 0);

}  // namespace wavicon
