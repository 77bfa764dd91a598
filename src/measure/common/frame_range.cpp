// SPDX-License-Identifier: MIT
#include "measure/common/frame_range.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/error.hpp"

namespace wavicon::measure_detail {

FrameRange frame_range(const AudioSource& source, double from_s, std::optional<double> to_s) {
  if (source.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  const double rate = source.sample_rate_hz(), whole_s = static_cast<double>(source.frames()) / rate;
  const double to = to_s.value_or(whole_s);
  if (!(from_s >= 0) || !(to > from_s) || from_s >= whole_s)
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("stretch from {} s to {} s is not within the capture (0 to {} s)", from_s, to, whole_s));
  const FrameRange range{std::llround(from_s * rate),
                         std::min<std::int64_t>(source.frames(), std::llround(to * rate))};
  if (range.frames() < 1)
    throw Error(ErrorCode::bad_argument, fmt::format("there is no frame between {} s and {} s", from_s, to));
  return range;
}

}  // namespace wavicon::measure_detail
