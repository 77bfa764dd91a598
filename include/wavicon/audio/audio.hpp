// SPDX-License-Identifier: MIT
#pragma once
// Samples in memory: the value that measurements read. No files, no streams.
//
// Conventions, here once for the whole library:
//   samples    double, planar (one contiguous run per channel), full scale is -1 … +1; larger values are kept
//   time       frames (one sample of every channel) as 64-bit integers, or seconds as double
//   frequency  Hz; levels in dBFS: a tone's level is that of its peak, so a full-scale sine is 0 dBFS
//   channels   counted from 0 in code, from 1 wherever a person reads
//   spectra    one-sided, scaled so that a sine of peak A reads A
//   views      std::span arguments are read during the call and never kept; results are values

#include <cstdint>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/limits.hpp"

namespace wavicon {

/// Frames × channels with a sample rate.
class WAVICON_EXPORT Audio {
 public:
  /// Silence of the given shape.
  ///
  /// @param sample_rate_hz  above 0.
  /// @param channel_count   at least 1.
  /// @param frames          at least 0.
  /// @throws Error bad_argument for any other shape.
  Audio(double sample_rate_hz, int channel_count, std::int64_t frames);

  [[nodiscard]] double sample_rate_hz() const noexcept { return sample_rate_hz_; }
  [[nodiscard]] int channel_count() const noexcept { return channel_count_; }
  [[nodiscard]] std::int64_t frames() const noexcept { return frames_; }
  [[nodiscard]] double seconds() const noexcept { return static_cast<double>(frames_) / sample_rate_hz_; }

  /// The samples of one channel, `frames()` long; valid as long as this object. @throws Error bad_argument
  /// for a channel that is not there.
  [[nodiscard]] std::span<double> channel(int index);
  [[nodiscard]] std::span<const double> channel(int index) const;

 private:
  double sample_rate_hz_;
  int channel_count_;
  std::int64_t frames_;
  std::vector<double> samples_;
};

/// @throws Error bad_input naming channel and frame of the first NaN or infinite sample, or when there is no
/// frame.
WAVICON_EXPORT void require_measurable(const Audio& audio);

/// Largest magnitude of a sample, full scale = 1; 0 for no samples.
[[nodiscard]] WAVICON_EXPORT double peak(std::span<const double> samples) noexcept;

}  // namespace wavicon
