// SPDX-License-Identifier: MIT
#pragma once
// The Kaiser window, whose one parameter trades the width of a line for how far its skirts fall.

#include <cstddef>
#include <map>
#include <span>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Samples of the Kaiser window I0(β·sqrt(1-t²))/I0(β) at the centres of `length` equal steps of t from -1
/// to 1. Source: Kaiser, Schafer, IEEE ASSP-28(1), 1980 (to verify). The power series of I0 converges to
/// double precision for β <= 60.
///
/// @param beta  0 (rectangle) … 60. With 38, skirts lie 306 dB down and a line is kaiser_half_width_bins(38)
/// = 12.1 bins wide
///              to either side.
[[nodiscard]] WAVICON_EXPORT std::vector<double> kaiser_window(std::size_t length, double beta);

/// Distance from the centre of a line to its first zero, in bins of 1/length: sqrt(1 + (β/π)²).
[[nodiscard]] WAVICON_EXPORT double kaiser_half_width_bins(double beta);

/// How strongly a line of amplitude 1 shows at `distance_bins` beyond its main lobe, relative to its own
/// reading; the envelope of the skirts, which fall with 1/distance: 2·β·exp(-β)/(π·distance).
[[nodiscard]] WAVICON_EXPORT double kaiser_skirt_ratio(double beta, double distance_bins);

/// Windows computed once and used again; for one thread at a time.
class WAVICON_EXPORT KaiserWindows {
 public:
  /// kaiser_window(length, beta); valid as long as this object.
  [[nodiscard]] std::span<const double> get(std::size_t length, double beta);

 private:
  std::map<std::pair<std::size_t, double>, std::vector<double>> windows_;
};

}  // namespace wavicon
