// SPDX-License-Identifier: MIT
#pragma once
// What of a capture has to be read to have it where a stretch of the reference lies. Internal to `intake`.

#include <cmath>
#include <cstdint>

#include "wavicon/audio/fractional.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

struct AlignedStretch {
  std::int64_t begin = 0, frames = 0;  ///< of the capture
  double place = 0;                    ///< of the first value, in frames behind `begin`
  double frames_per_frame = 1;
};

/// @param first_frame, length  of the reference.
[[nodiscard]] inline AlignedStretch aligned_stretch(const Alignment& alignment, std::int64_t first_frame,
                                                    std::size_t length) {
  const double pace = alignment.frames_per_frame,
               place = alignment.delay_frames + static_cast<double>(first_frame) * pace;
  const auto begin = static_cast<std::int64_t>(std::floor(place)) - FractionalReader::kReach;
  return {begin,
          static_cast<std::int64_t>(static_cast<double>(length) * pace) + 2 * FractionalReader::kReach + 2,
          place - static_cast<double>(begin), pace};
}

}  // namespace wavicon::intake_detail
