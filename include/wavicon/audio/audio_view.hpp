// SPDX-License-Identifier: MIT
#pragma once
// Samples that somebody else holds, as they lie: measured where they are, never copied as a whole.

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"

namespace wavicon {

/// Frames × channels of float or double, planar or interleaved, full scale -1 … +1. Cheap to copy; valid as
/// long as the samples are.
class WAVICON_EXPORT AudioView {
 public:
  /// A pointer for each channel, each to `frames` samples; the pointers themselves are copied.
  ///
  /// @param sample_rate_hz  above 0. @throws Error bad_argument for another rate, no channel, or frames below
  /// 0.
  AudioView(std::span<const float* const> channels, std::int64_t frames, double sample_rate_hz);
  AudioView(std::span<const double* const> channels, std::int64_t frames, double sample_rate_hz);
  /// Frame after frame. @throws Error bad_argument where the samples do not fill whole frames, and as above.
  static AudioView interleaved(std::span<const float> samples, int channel_count, double sample_rate_hz);
  static AudioView interleaved(std::span<const double> samples, int channel_count, double sample_rate_hz);

  [[nodiscard]] double sample_rate_hz() const noexcept { return sample_rate_hz_; }
  [[nodiscard]] int channel_count() const noexcept { return channel_count_; }
  [[nodiscard]] std::int64_t frames() const noexcept { return frames_; }
  /// Whether its samples are float.
  [[nodiscard]] bool is_float() const noexcept { return is_float_; }

  /// Frames first_frame … of one channel as double; what is outside is silence.
  void read(int channel, std::int64_t first_frame, std::span<double> samples) const;

 private:
  AudioView(std::vector<const void*> channels, std::int64_t stride, std::int64_t frames,
            double sample_rate_hz, bool is_float);

  std::vector<const void*> channels_;  // the first sample of each
  std::int64_t stride_ = 1;            // from one sample of a channel to the next
  std::int64_t frames_ = 0;
  double sample_rate_hz_ = 0;
  int channel_count_ = 0;
  bool is_float_ = true;
};

/// A view as a source.
class WAVICON_EXPORT ViewSource : public AudioSource {
 public:
  explicit ViewSource(AudioView view) : view_(std::move(view)) {}
  [[nodiscard]] double sample_rate_hz() const noexcept override { return view_.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return view_.channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return view_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  AudioView view_;
};

}  // namespace wavicon
