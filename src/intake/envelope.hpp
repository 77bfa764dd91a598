// SPDX-License-Identifier: MIT
#pragma once
// The power of a channel in blocks of a millisecond: where it sounds, where something begins. Internal to
// `intake`.

#include <cstdint>
#include <optional>
#include <vector>

#include "wavicon/audio/source.hpp"

namespace wavicon::intake_detail {

/// Frames first … end of a channel.
struct Stretch {
  std::int64_t first = 0, end = 0;
  [[nodiscard]] std::int64_t frames() const noexcept { return end - first; }
};

struct Envelope {
  static constexpr std::size_t kAhead = 4, kGap = 2, kBehind = 20;  // blocks that are compared

  std::int64_t block = 1;      ///< frames
  std::vector<double> powers;  ///< Σx² of each block

  [[nodiscard]] double mean(std::size_t first, std::size_t end) const;
  /// Mean of the blocks from k on, and of those that lie shortly before it; 0 where there are none.
  [[nodiscard]] double ahead(std::size_t k) const { return mean(k, k + kAhead); }
  [[nodiscard]] double behind(std::size_t k) const;
};

[[nodiscard]] Envelope envelope_of(AudioSource& source, int channel);
/// What sounds: from the first to the last millisecond within 40 dB of the loudest; none when all is silent.
[[nodiscard]] std::optional<Stretch> active_part(const Envelope& envelope, std::int64_t frames);
/// As is_row_of_hits().
[[nodiscard]] bool holds_hits_alone(const Envelope& envelope);

}  // namespace wavicon::intake_detail
