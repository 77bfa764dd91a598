// SPDX-License-Identifier: MIT
#pragma once
// Sandpiper, the stand-in for a link that drops out, loses or repeats samples, clips, turns the polarity and
// hands over a wrong sample rate: known faults for the health check.

#include <cstdint>
#include <vector>

namespace wavicon::stand_in {

/// A fault happens once, at its time; with a length of 0 it does not happen.
struct SandpiperSettings {
  double drop_at_s = 0;
  double drop_frames = 0;  ///< replaced by zeros
  double lose_at_s = 0;
  double lose_frames = 0;  ///< left out: what follows comes earlier
  double repeat_at_s = 0;
  double repeat_frames = 0;  ///< played twice: what follows comes later
  bool in_place = false;     ///< the second time in place of what should follow, which is lost
  double level_db = 0;
  double clip_dbfs = 0;  ///< cut off there, before level_db
  bool clips = false;
  bool invert = false;
};

/// One channel. Losing frames needs to look ahead by as many: that is the latency it reports.
class Sandpiper {
 public:
  Sandpiper(const SandpiperSettings& settings, double sample_rate_hz);
  /// Does not allocate or lock.
  void run(const float* in, float* out, int frames) noexcept;
  [[nodiscard]] std::int64_t latency_frames() const noexcept { return look_ahead_; }

 private:
  [[nodiscard]] float source(std::int64_t frame) const noexcept;

  SandpiperSettings settings_;
  double rate_;
  double gain_;
  double clip_;
  std::int64_t look_ahead_;
  std::vector<float> history_;  ///< ring of past input
  std::int64_t written_ = 0;
  std::int64_t frame_ = 0;
};

}  // namespace wavicon::stand_in
