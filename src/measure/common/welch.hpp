// SPDX-License-Identifier: MIT
#pragma once
// Averaged power density of a long signal, channel by channel, in memory that does not grow with it. Internal
// to `measure`.

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "measure/common/frame_range.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {

/// Windows over a stretch.
struct WelchPlan {
  std::size_t frames = 0;  ///< of a window
  std::size_t hop = 0;
  std::size_t length = 0;  ///< of the transform
  double beta = 20;
  double rate = 0;
  double noise_bins = 1;  ///< equivalent noise bandwidth in bins of 1/window
  [[nodiscard]] double bin_hz() const { return rate / static_cast<double>(length); }
  /// Half of a line's lobe in transform bins.
  [[nodiscard]] double lobe_half_bins() const {
    return kaiser_half_width_bins(beta) * static_cast<double>(length) / static_cast<double>(frames);
  }
};

/// The plan of a window that is there.
[[nodiscard]] WelchPlan plan_of(std::span<const double> window, std::size_t hop, std::size_t length,
                                double beta, double rate);

/// Windows of about `window_s`, shorter when the stretch is; overlap 0 … 0.95.
[[nodiscard]] WelchPlan plan_welch(double rate, std::int64_t stretch_frames, double window_s, double overlap,
                                   double beta);

/// Windows of a plan in that many frames; at least one is taken to be there.
[[nodiscard]] inline std::int64_t window_count(const WelchPlan& plan, std::int64_t frames) {
  return (frames - static_cast<std::int64_t>(plan.frames)) / static_cast<std::int64_t>(plan.hop) + 1;
}

/// The density of single windows, for one thread at a time.
class WindowDensity {
 public:
  explicit WindowDensity(const WelchPlan& plan);
  /// @param samples   `frames` of them.
  /// @param density  length/2 + 1 values, in mean square per Hz (one-sided).
  /// @return their mean, weighed by the window.
  double operator()(const double* samples, std::vector<double>& density);

 private:
  std::vector<double> half_window_;  ///< it is symmetric
  std::size_t frames_;
  double sum_ = 0, scale_ = 0;
  RealTransform transform_;
};

/// Runs a window over the stretch and hands over each window's density, in mean square per Hz (one-sided),
/// before it is averaged.
///
/// @param each  called with channel, window and density.
/// @param mean  called before it with the channel and the window's mean, weighed by it, when given.
/// @param beside  called before both of a window, when given, by any of the threads that are allowed, several
/// at a time; not for NaN or infinity.
/// @throws Error bad_input for NaN or infinity.
void for_each_window(AudioSource& source, const FrameRange& range, const WelchPlan& plan,
                     const std::function<void(std::size_t channel, std::int64_t window,
                                              const std::vector<double>& density)>& each,
                     const std::function<void(std::size_t channel, double mean)>& mean = {},
                     const std::function<void(std::size_t channel, std::int64_t window,
                                              const std::vector<double>& density)>& beside = {});

/// Sum of a density over a band, with parts of bins at its edges; weight(hz) counts each bin.
template <typename Weight>
double band_power(const std::vector<double>& density, double bin_hz, double from_hz, double to_hz,
                  Weight&& weight) {
  // Bin b holds what lies within half a bin of it.
  const auto last = static_cast<std::ptrdiff_t>(density.size()) - 1;
  const auto first = std::clamp(static_cast<std::ptrdiff_t>(from_hz / bin_hz + 0.5), std::ptrdiff_t{0}, last),
             end = std::clamp(static_cast<std::ptrdiff_t>(to_hz / bin_hz + 0.5), std::ptrdiff_t{0}, last);
  auto part = [&](std::ptrdiff_t b) {
    const double at = static_cast<double>(b), low = std::max(from_hz, (at - 0.5) * bin_hz),
                 high = std::min(to_hz, (at + 0.5) * bin_hz);
    return high > low ? density[static_cast<std::size_t>(b)] * (high - low) * weight(at * bin_hz) : 0.0;
  };
  if (end <= first) return part(first);
  double sum = 0;
  for (std::ptrdiff_t b = first + 1; b < end; ++b)
    sum += density[static_cast<std::size_t>(b)] * weight(static_cast<double>(b) * bin_hz);
  return part(first) + sum * bin_hz + part(end);
}

}  // namespace wavicon::measure_detail
