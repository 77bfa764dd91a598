// SPDX-License-Identifier: MIT
#pragma once
// The stretch of a capture that a measurement looks at. Internal to `measure`.

#include <cstdint>
#include <optional>

#include "wavicon/audio/source.hpp"

namespace wavicon::measure_detail {

struct FrameRange {
  std::int64_t first = 0;
  std::int64_t end = 0;
  [[nodiscard]] std::int64_t frames() const { return end - first; }
};

/// From and to in seconds as frames, cut to what there is.
///
/// @throws Error bad_input for 0 frames; bad_argument for a stretch that holds none of them.
[[nodiscard]] FrameRange frame_range(const AudioSource& source, double from_s, std::optional<double> to_s);

}  // namespace wavicon::measure_detail
