// SPDX-License-Identifier: MIT
#pragma once
// A stimulus read like a capture: what is asked of a capture can be asked of what was played.

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

/// Renders what is read; the stimulus outlives it.
class WAVICON_EXPORT StimulusSource : public AudioSource {
 public:
  explicit StimulusSource(Stimulus& stimulus) : stimulus_(stimulus) {}
  [[nodiscard]] double sample_rate_hz() const noexcept override { return stimulus_.recipe().sample_rate_hz; }
  [[nodiscard]] int channel_count() const noexcept override { return stimulus_.recipe().channel_count; }
  [[nodiscard]] std::int64_t frames() const noexcept override { return stimulus_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  Stimulus& stimulus_;
};

}  // namespace wavicon
