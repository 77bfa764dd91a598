// SPDX-License-Identifier: MIT
#pragma once
// The gate for sound that passes by block after block: judged when it is over.

#include <memory>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/intake/judged_capture.hpp"

namespace wavicon {

/// Looks at every sample in constant memory. What was played is not known, so only what a capture shows by
/// itself is found.
class WAVICON_EXPORT StreamGate {
 public:
  /// @param channel_count  at least 1. @param sample_rate_hz  above 0. @throws Error bad_argument otherwise.
  StreamGate(int channel_count, double sample_rate_hz, SampleFormat format = SampleFormat::float64,
             GatePolicy policy = {});
  ~StreamGate();
  StreamGate(StreamGate&&) noexcept;
  StreamGate& operator=(StreamGate&&) noexcept;

  /// @param planar  one run for each channel, all of the same length. @throws Error bad_argument for another
  /// length, or after finish().
  void push(std::span<const double> planar);
  /// @return what was let through, and warnings.
  /// @throws UnfitCapture as judge(); Error bad_input when there was no frame.
  [[nodiscard]] std::vector<Finding> finish();

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace wavicon
