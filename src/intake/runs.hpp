// SPDX-License-Identifier: MIT
#pragma once
// Runs of equal samples: crests that were cut off, and sound that was replaced by zeros. Internal.

#include <cstdint>

#include "chunk.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon::intake_detail {

/// What one capture's runs are judged by.
struct RunLimits {
  double step = 0;         ///< of the format
  double decay = 0;        ///< of the level around, per frame
  double chunk_decay = 0;  ///< the same, per kChunk frames
  std::int64_t shortest_dropout = 0;
  std::int64_t longest_dropout = 0;
  std::int64_t look_behind = 0;  ///< frames behind zeros in which a new sound would be at its height
  RunLimits(double sample_rate_hz, SampleFormat format);
};

/// Follows the runs of one channel.
class RunFollower {
 public:
  RunFollower(const RunLimits& limits, ChannelHealth& health) : limits_(&limits), health_(&health) {}

  /// kChunk frames without three equal samples in a row, and none pending. @param x  two before it can be
  /// read.
  void pass(const double* x, double peak);
  /// Every other sample. @param quantum  smallest step seen so far.
  void take(double x, double quantum);
  [[nodiscard]] bool pending() const { return run_ >= 3; }
  void move_to(ChannelHealth& health) { health_ = &health; }
  /// No more is to come.
  void finish() { confirm(); }

 private:
  void end_run(double after, double quantum);
  void follow_zeros(double x, double quantum);
  void look_behind(double peak);
  void confirm();

  const RunLimits* limits_;
  ChannelHealth* health_;
  std::int64_t frame_ = 0;
  double last_ = 0;
  double before_run_ = 0;  // sample before the run of equal ones
  std::int64_t run_ = 0;   // equal samples up to the last one
  std::int64_t zeros_from_ = -1;
  double level_ = 0;  // decaying peak of the sound so far
  double level_at_zeros_ = 0;
  double last_sound_ = 0;  // sample before the zeros
  Stretch suspect_;        // a dropout, unless something far louder begins behind it
  double suspect_level_ = 0;
  std::int64_t suspect_until_ = -1;  // none
};

}  // namespace wavicon::intake_detail
