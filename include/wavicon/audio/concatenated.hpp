// SPDX-License-Identifier: MIT
#pragma once
// Several sources one after the other, as one.

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"

namespace wavicon {

/// The sources in their order, without a gap between them.
class WAVICON_EXPORT ConcatenatedSource : public AudioSource {
 public:
  /// @param sources  at least one, all of the same rate and channel count. @throws Error bad_argument
  /// otherwise.
  explicit ConcatenatedSource(std::vector<std::shared_ptr<AudioSource>> sources);
  [[nodiscard]] double sample_rate_hz() const noexcept override { return sources_.front()->sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return sources_.front()->channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return frames_; }
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  std::vector<std::shared_ptr<AudioSource>> sources_;
  std::vector<std::int64_t> starts_;
  std::int64_t frames_ = 0;
};

}  // namespace wavicon
