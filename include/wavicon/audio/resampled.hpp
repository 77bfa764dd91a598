// SPDX-License-Identifier: MIT
#pragma once
// A source at a higher sample rate than its own.

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/source.hpp"

namespace wavicon {

/// Reads a source as if it had been sampled faster: band-limited interpolation, nothing above half of its own
/// rate. The source outlives it.
class WAVICON_EXPORT ResampledSource : public AudioSource {
 public:
  /// @param sample_rate_hz  at least that of the source. @throws Error bad_argument otherwise.
  ResampledSource(AudioSource& source, double sample_rate_hz);
  [[nodiscard]] double sample_rate_hz() const noexcept override { return rate_; }
  [[nodiscard]] int channel_count() const noexcept override { return source_.channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override;
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  AudioSource& source_;
  double rate_;
  double step_;
  FractionalReader reader_;
  std::vector<double> own_;
};

}  // namespace wavicon
