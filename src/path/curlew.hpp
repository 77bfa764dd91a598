// SPDX-License-Identifier: MIT
#pragma once
// Curlew, the stand-in for a small intercom box: a coarse converter with a sample rate of its own, held
// values, a poor filter behind them, and a carrier that is left over.

#include <cstdint>

#include "wavicon/audio/elementary.hpp"

namespace wavicon::stand_in {

struct CurlewSettings {
  double bits = 10;              ///< of its converter, 4 … 16; no dither
  double inner_rate_hz = 16000;  ///< of its converter; each value is held until the next one
  double carrier_dbfs = -50;     ///< peak; -200 is none
  double carrier_hz = 19800;     ///< below half the rate, else it is not there
};

/// One channel.
class Curlew {
 public:
  Curlew(const CurlewSettings& settings, double sample_rate_hz);
  void run(const float* in, float* out, int frames) noexcept;
  [[nodiscard]] std::int64_t latency_frames() const noexcept { return 0; }

 private:
  double step_;       ///< of the converter
  double per_frame_;  ///< conversions per frame
  double smooth_;     ///< of the one-pole filter behind the converter
  double carrier_;
  Phase carrier_step_;
  double due_ = 1;  ///< 1: convert now
  double held_ = 0;
  double smoothed_ = 0;
  std::uint64_t frame_ = 0;
};

}  // namespace wavicon::stand_in
