// SPDX-License-Identifier: MIT
#pragma once
// Averaged spectra of two signals and what they share. Internal to `measure`.

#include <complex>
#include <cstdint>
#include <span>
#include <vector>

#include "measure/common/power_spread.hpp"
#include "measure/common/welch.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::measure_detail {

/// Kaiser windows of about 85 ms unless said, no more than 800 of them over the whole length.
class CrossSpectra {
 public:
  /// @param frames  of the whole comparison; short ones get shorter windows.
  /// @param beta    of the window: lobes reach beta/π bins; what lies beyond is 8.7·beta dB below and less.
  CrossSpectra(double rate, std::int64_t frames, double window_s = 0.085, double beta = 9);
  /// Of what repeats every so many frames: each window is one period as it is, its bins at the lines.
  struct Periods {
    std::size_t frames = 0;
  };
  CrossSpectra(double rate, Periods period);
  /// Windows within a stretch of both.
  void add(std::span<const double> x, std::span<const double> y);

  [[nodiscard]] std::int64_t windows() const { return windows_; }
  [[nodiscard]] double bin_hz() const { return rate_ / static_cast<double>(length_); }
  [[nodiscard]] std::size_t length() const { return length_; }
  [[nodiscard]] double beta() const { return beta_; }
  /// Sums of |X|², |Y|² and conj(X)·Y.
  [[nodiscard]] const std::vector<double>& xx() const { return xx_; }
  [[nodiscard]] const std::vector<double>& yy() const { return yy_; }
  [[nodiscard]] const std::vector<std::complex<double>>& xy() const { return xy_; }
  /// What turns a sum into a one-sided density, in mean square per Hz.
  [[nodiscard]] double density_scale() const;
  /// The windows as those of a mean density, and the chance in it.
  [[nodiscard]] WelchPlan plan() const;
  [[nodiscard]] PowerSpread spread() const;

 private:
  double rate_;
  double beta_ = 0;
  std::size_t length_, stride_;
  std::vector<double> window_;
  RealTransform transform_;
  std::vector<double> xx_, yy_;
  std::vector<std::complex<double>> xy_, first_;
  std::int64_t windows_ = 0;
};

}  // namespace wavicon::measure_detail
