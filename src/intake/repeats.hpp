// SPDX-License-Identifier: MIT
#pragma once
// Blocks that were played twice in place, as a link does that had nothing new to play. Internal.

#include <cstdint>
#include <vector>

#include "chunk.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon::intake_detail {

/// Follows one channel and tells where, after a run of frames, exactly the same frames come again, once to
/// three times, and then something else.
class RepeatFinder {
 public:
  /// Frames that have to stay where they are, those that are taken included.
  static constexpr std::size_t kLookedBack = 32768 + 64;

  /// @param least  level under which the same values come again by themselves.
  /// @param ring   of the samples: frame n is at n % length, and stays there for kLookedBack frames.
  RepeatFinder(double least, const double* ring, std::size_t length)
      : least_(least), ring_(ring), length_(length), seen_(kSeen) {}

  /// @param x  the next kChunk samples, kHistory before them can be read. @param anchors  as ChunkFacts says.
  void take(const double* x, std::uint64_t anchors, double peak);
  void finish() { close(taken_); }
  /// @param ring  of the same samples, in another place.
  void move_to(const double* ring) { ring_ = ring; }

  std::int64_t count = 0;
  std::vector<Stretch> found;  ///< the first ones: where the copy begins, and its frames

 private:
  static constexpr std::size_t kSeen = 1024;  // places by signature, over each other when full
  struct Seen {
    std::uint64_t signature = 0;
    std::int64_t frame = -1;
  };
  [[nodiscard]] double before(std::int64_t frame) const {
    return ring_[static_cast<std::size_t>(frame) % length_];
  }
  void look_up(const double* x, std::size_t n);
  void follow(const double* x, std::size_t from);
  void open(std::int64_t frame, std::int64_t distance);
  void close(std::int64_t end);

  double least_;
  const double* ring_;
  std::size_t length_;
  std::vector<Seen> seen_;
  std::int64_t taken_ = 0;
  std::int64_t distance_ = 0;  // 0 when no copy is being followed
  std::int64_t start_ = 0;
  bool endless_ = false;  // the copy went on for too long: the signal is periodic
};

}  // namespace wavicon::intake_detail
