// SPDX-License-Identifier: MIT
#pragma once
// Samples at places between the samples: windowed sinc, exact enough for differences of -170 dB.

#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Reads band-limited audio at any places. For one thread at a time.
class WAVICON_EXPORT FractionalReader {
 public:
  /// Samples that are needed before and after a place.
  static constexpr std::ptrdiff_t kReach = 48;

  FractionalReader();
  /// out[n] = x(first + n·step), x taken as 0 outside of its samples.
  ///
  /// Kaiser window (β = 18) over 96 samples; 1024 filters between two samples, quadratic interpolation
  /// between those.
  /// @param first  place in x of the first value. @param step  above 0 and below 1.01: nothing is cut off to
  /// make room for a lower rate.
  /// @accuracy  -160 dB of a tone up to 0.4 of the rate (fractional_test.cpp).
  void read(std::span<const double> x, double first, double step, std::span<double> out) const;

 private:
  /// The same with one filter for all places.
  void read_in_step(std::span<const double> x, double first, std::span<double> out) const;

  std::span<const double>
      filters_;  ///< phase after phase, one more before and two after; shared by all readers
};

}  // namespace wavicon
