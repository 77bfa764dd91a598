// SPDX-License-Identifier: MIT
#pragma once
// Long captures read while they are worked on.

#include <algorithm>
#include <cstdint>
#include <span>
#include <utility>
#include <vector>

#include "wavicon/audio/source.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon {

/// As for_each_block() with blocks of this many frames; where two threads are allowed and there is enough to
/// do, the next stretch, which is longer, is read while take(first_frame, planar, frames) has the one before
/// it. The source belongs to it until it returns.
template <typename Take>
void for_each_block_ahead(AudioSource& source, std::int64_t first_frame, std::int64_t end_frame,
                          std::int64_t block, Take&& take) {
  constexpr std::int64_t kSamplesAhead = 65536;
  // Of less than this the room for two stretches costs more than a second thread gains.
  constexpr std::int64_t kWorthReadingAhead = 8 * kSamplesAhead;
  const auto channels = static_cast<std::int64_t>(source.channel_count());
  if (allowed_threads() < 2 || end_frame - first_frame <= block ||
      (end_frame - first_frame) * channels <= kWorthReadingAhead) {
    std::vector<double> scratch(static_cast<std::size_t>(block * channels));
    for_each_block(source, first_frame, end_frame, scratch, std::forward<Take>(take));
    return;
  }
  const std::int64_t stretch = std::max(block, kSamplesAhead / channels / block * block);
  std::vector<double> here(static_cast<std::size_t>(stretch * channels)), next(here.size());
  const auto part = [&](std::vector<double>& from, std::int64_t at) {
    return std::span<double>(from).first(
        static_cast<std::size_t>(std::min(stretch, end_frame - at) * channels));
  };
  source.read(first_frame, part(here, first_frame));
  for (std::int64_t at = first_frame; at < end_frame; at += stretch) {
    const std::int64_t then = at + stretch;
    WorkBeside reading([&] {
      if (then < end_frame) source.read(then, part(next, then));
    });
    take(at, std::span<const double>(part(here, at)), std::min(stretch, end_frame - at));
    reading.wait();
    std::swap(here, next);
  }
}

}  // namespace wavicon
