// SPDX-License-Identifier: MIT
#pragma once
// Fits of a few parameters to many values.

#include <cstddef>
#include <functional>
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

}  // namespace wavicon
