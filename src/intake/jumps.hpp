// SPDX-License-Identifier: MIT
#pragma once
// Jumps: single places where a signal changes far more abruptly than anywhere around it; clicks, cuts, tones
// switched hard. Internal.

#include <cstdint>
#include <vector>

#include "chunk.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon::intake_detail {

/// Takes the third difference of chunk after chunk and tells which chunks stand out from the 50 ms on either
/// side.
class JumpFinder {
 public:
  /// @param least  third difference under which nothing is told.
  JumpFinder(double sample_rate_hz, double least);

  /// Whether the next chunk may stand out, so that its place is worth looking for.
  [[nodiscard]] bool may_stand_out(double highest) const;
  /// @param highest  third difference of the next chunk. @param at  its place in the chunk, or kNowhere where
  /// it cannot stand out.
  void take(double highest, std::size_t at);
  static constexpr std::size_t kNowhere = ~std::size_t{0};
  /// Decides the chunks that were waiting for what follows.
  void finish();

  std::int64_t count = 0;
  std::vector<Stretch> found;  ///< the first ones, one frame each

 private:
  void decide(std::int64_t chunk);
  [[nodiscard]] std::size_t slot(std::int64_t chunk) const {
    return static_cast<std::size_t>(chunk) & (highest_.size() - 1);
  }
  [[nodiscard]] double highest_of(std::int64_t chunk) const {
    return chunk < 0 || chunk >= taken_ ? 0 : highest_[slot(chunk)];
  }

  double least_;
  std::int64_t reach_;           // chunks on either side
  std::vector<double> highest_;  // ring, a power of two long
  std::vector<std::size_t> at_;
  std::int64_t taken_ = 0;
};

}  // namespace wavicon::intake_detail
