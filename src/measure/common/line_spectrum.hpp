// SPDX-License-Identifier: MIT
#pragma once
// Power spectrum of a steady stretch under the Kaiser window with β = 38, whose skirts lie 306 dB down: each
// tone is one lobe, and what lies between the lobes is noise. Internal to `measure`.

#include <complex>
#include <cstddef>
#include <span>
#include <vector>

#include "measure/common/power_spread.hpp"
#include "measure/common/spectral_tools.hpp"

namespace wavicon::measure_detail {

inline constexpr double kLineBeta = 38;
inline constexpr double kLobeHalfBins = 12.5;  ///< first zero at 12.14 bins of 1/window

/// Windows that overlap over one stretch.
struct Windowing {
  std::size_t frames = 0;  ///< of one window
  std::size_t count = 1;
  std::size_t hop = 0;
};
/// Whole stretch in one window, or windows of the longest length that overlap by half.
[[nodiscard]] Windowing divide(std::size_t stretch_frames, std::size_t longest_window);

/// Mean over the windows of the squared spectrum. `power[b]` summed over a lobe is the squared peak amplitude
/// of the tone; half of it is its mean square.
class LineSpectrum {
 public:
  /// @param tools  outlive this object.
  LineSpectrum(std::span<const double> samples, double sample_rate_hz, const Windowing& windowing,
               SpectralTools& tools);

  [[nodiscard]] const Windowing& windowing() const noexcept { return windowing_; }
  [[nodiscard]] std::span<const double> samples() const noexcept { return samples_; }
  [[nodiscard]] double sample_rate_hz() const noexcept { return sample_rate_hz_; }
  [[nodiscard]] const std::vector<double>& power() const noexcept { return power_; }
  [[nodiscard]] double hz_per_bin() const noexcept { return hz_per_bin_; }
  /// Transform bins per bin of 1/window.
  [[nodiscard]] double padding() const noexcept { return padding_; }
  /// Amplitude² that a line shows in its highest bin, over its power(): for drawing.
  [[nodiscard]] double line_height() const noexcept { return line_height_; }
  /// Mean of the samples under the windows.
  [[nodiscard]] double dc() const noexcept { return dc_; }
  [[nodiscard]] double lobe_half_hz() const noexcept { return kLobeHalfBins * padding_ * hz_per_bin_; }

  /// Frequency of the lobe near `rough_hz`: highest bin within ±reach_hz, parabola, then Newton's method on
  /// the squared spectrum of each window; the mean over the windows.
  [[nodiscard]] double refine_hz(double rough_hz, double reach_hz);
  /// Frequency in each window, after refine_hz().
  [[nodiscard]] const std::vector<double>& window_frequencies_hz() const noexcept { return window_hz_; }

  /// Sum of power over a lobe.
  [[nodiscard]] double lobe_power(double at_hz) const;
  [[nodiscard]] std::size_t lobe_bins(double at_hz) const;
  /// Mean power of a bin of noise near a place, from the median of the bins 12.5 to 40 lobes' bins away that
  /// no place in `lines_hz` (sorted) covers.
  [[nodiscard]] double noise_power_per_bin(double at_hz, std::span<const double> lines_hz) const;
  /// Sum of power over a band with fractional bins at its edges, lobes of `without_hz` (sorted) replaced by
  /// the noise beside them.
  [[nodiscard]] double band_power(double from_hz, double to_hz, std::span<const double> without_hz,
                                  std::span<const double> lines_hz) const;
  /// power() with these lobes replaced in the same way.
  [[nodiscard]] std::vector<double> power_without(std::span<const double> without_hz,
                                                  std::span<const double> lines_hz) const;
  /// Standard deviation of refine_hz() for a tone of an amplitude in noise of a power per bin: the noise
  /// under the windows' moments, in closed form.
  [[nodiscard]] double frequency_sigma_hz(double amplitude, double noise_per_bin) const;
  /// Chance in sums of power().
  [[nodiscard]] PowerSpread spread() const;
  /// For drawing: the highest level in each of equal steps of the log frequency axis, single bins where they
  /// lie further apart than the steps. A sine of peak A reads A.
  void draw(std::vector<double>& hz, std::vector<double>& amplitude) const;
  /// Sum over power/distance² of everything but the lobe at a place, distance in bins of 1/window: what
  /// skirts sum up to. Far from the place, to a few percent.
  [[nodiscard]] double skirt_load(double at_hz) const;

  /// For each order, the mean over the windows of the squared amplitude at order × the tone's frequency in
  /// that window.
  /// @param beta  of the Kaiser window to see them through.
  [[nodiscard]] std::vector<double> line_powers(std::span<const int> orders, double beta) const;
  /// The same at any frequencies.
  [[nodiscard]] std::vector<double> powers_at(std::span<const double> at_hz, double beta) const;
  /// For each order, its phase in degrees (-180 … 180) as A·sin(order·ωt + phase), time counted from a rising
  /// zero crossing of the tone; the mean over the windows. A folded order has the phase of the order that it
  /// is.
  [[nodiscard]] std::vector<double> phases_deg(std::span<const int> orders, double beta) const;
  /// What noise of power 1 per bin reads as in line_powers(), on average.
  [[nodiscard]] double line_noise(double beta) const;

 private:
  [[nodiscard]] double peak_near_hz(double rough_hz, double reach_hz) const;
  /// Samples of one window under its weights; valid until the next call.
  [[nodiscard]] std::span<const double> windowed(std::size_t index, std::span<const double> window) const;

  std::span<const double> samples_;
  double sample_rate_hz_;
  Windowing windowing_;
  SpectralTools* tools_;
  std::vector<double> power_;
  std::vector<double> group_power_;  ///< power_ summed over groups of kGroupBins
  double hz_per_bin_ = 0;
  double padding_ = 1;
  double line_height_ = 1;
  double dc_ = 0;
  std::vector<double> window_hz_;
};

}  // namespace wavicon::measure_detail
