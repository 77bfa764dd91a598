// SPDX-License-Identifier: MIT
#pragma once
// How late one stretch is to another, to a small part of a sample, and how surely. Internal to `intake`.

#include <complex>
#include <optional>
#include <span>
#include <vector>

#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {

struct SegmentDelay {
  double frames = 0;         ///< by which y comes after x
  double sigma_frames = 0;   ///< standard deviation, from what of y is not x; above 0
  double scatter = 1;        ///< χ² per degree of freedom of the bands' own delays about it, at least 1
  double spread_frames = 0;  ///< RMS of the bands' own delays about it, each by what it tells of time
};

/// Weighs each third octave by what x and y have in common there over what they do not: what carries no time
/// (a low tone, a band of noise) counts for little.
///
/// Method: cross-spectrum C = Y X*; in each band the gain g = R / Σ|X|² and the noise N = (Σ|Y|² - R² /
/// Σ|X|²) / (n - 1), not below 1e-5 of |Y|², with R = Σ Re(C e^{jωτ}); the maximum over τ of Σ (g / N) Re(C
/// e^{jωτ}) by Newton's method, the weights found anew between its steps. σ = √(E / 2I), I = Σ (g / N) ω²
/// Re(C e^{jωτ}), with E for the window (Knapp and Carter's maximum-likelihood weights, to verify).
class SegmentDelays {
 public:
  /// @param window  by which x and y were multiplied; its length is theirs.
  /// @param least_of_densest  of the power of the densest band: what lies below is taken for what the
  /// window's
  ///                          edges make of a signal that goes on; 0 for one that begins and ends within.
  SegmentDelays(double sample_rate_hz, std::vector<double> window, double least_of_densest = 1e-9);

  [[nodiscard]] const std::vector<double>& window() const noexcept { return window_; }
  /// @param x, y  multiplied by the window; within a few samples of each other. @return none when no band of
  /// y is more like x than chance makes it.
  [[nodiscard]] std::optional<SegmentDelay> operator()(std::span<const double> x, std::span<const double> y) {
    return (*this)(spectrum_of(x), y);
  }

  /// What is asked of x, for more than one y.
  struct Spectrum {
    std::vector<std::complex<double>> bins;
    std::vector<double> band_powers;
  };
  [[nodiscard]] Spectrum spectrum_of(std::span<const double> x);
  [[nodiscard]] std::optional<SegmentDelay> operator()(const Spectrum& x, std::span<const double> y);

 private:
  // Re(C e^{jωτ}) and its moments over a run of bins.
  struct Moments {
    double sum = 0, slope = 0, curvature = 0;
  };
  struct Band {
    std::size_t first = 0, end = 0;        // bins
    double weight = 0;                     // g / N
    double own = 0, other = 0;             // Σ|X|², Σ|Y|²
    std::optional<double> looked_at = {};  // the delay of …
    Moments moments = {};
  };
  static Moments moments_of(const std::vector<std::complex<double>>& cross, std::size_t first,
                            std::size_t end, double turn, double delay);
  // Of a band, kept until another delay is asked for.
  const Moments& moments_at(Band& band, const std::vector<std::complex<double>>& cross, double delay) const;
  void weigh(const std::vector<std::complex<double>>& cross, double delay);
  void take_scatter(const std::vector<std::complex<double>>& cross, SegmentDelay& found);

  std::vector<double> window_;
  double least_of_densest_;
  RealTransform transform_;
  double turn_ = 0;     // radians per bin and frame
  double spread_ = 1;   // E
  double density_ = 1;  // frames of the window over those of the transform: bins that are independent
  std::vector<Band> bands_;
};

/// Raised cosine over a whole stretch.
[[nodiscard]] std::vector<double> hann_window(std::size_t length);
/// Ones with raised-cosine edges.
[[nodiscard]] std::vector<double> edged_window(std::size_t length, std::size_t edge);

}  // namespace wavicon::intake_detail
