// SPDX-License-Identifier: MIT
#pragma once
// The spectrum of a run of samples at any frequencies, from one transform. Internal to `measure`.

#include <array>
#include <complex>
#include <cstddef>
#include <span>
#include <vector>

#include "wavicon/audio/transform.hpp"

namespace wavicon::measure_detail {

/// Σ x[n]·e^{-2πi·f·n} at any f, read between the bins of a transform at least 2.5 times as long as the run
/// with a Kaiser-Bessel kernel of 12 bins, whose shape over time was divided out before (gridding: Jackson,
/// Meyer, Nishimura, Macovski, IEEE Trans. Med. Imag. 10(3), 1991, to verify). For many frequencies: 40 times
/// as fast as a sum for each.
///
/// @accuracy  1e-12 of Σ|x|; the kernel's error is e^{-π·12·√(1-1/2.5)} = 2e-13
class BetweenBins {
 public:
  /// @param transforms  kept for the next run of the same length.
  BetweenBins(std::span<const double> samples, RealTransforms& transforms);
  static constexpr std::ptrdiff_t kReach = 6;  ///< bins on each side that are read
  /// Where a frequency lies between the bins: the same for all runs of the same length.
  struct Place {
    std::ptrdiff_t nearest = 0;
    std::complex<double> turn;
    std::array<double, 2 * kReach + 1> weights{};
  };
  /// @param frequency  in cycles per frame, 0 … 0.5.
  [[nodiscard]] Place place(double frequency) const;
  /// @param place  of a run as long as this one.
  [[nodiscard]] std::complex<double> at(const Place& place) const;

 private:
  std::size_t length_;  // of the transform
  double centre_;       // frame that its phases count from
  std::vector<std::complex<double>> bins_;
};

}  // namespace wavicon::measure_detail
