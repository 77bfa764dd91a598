#include "lined_up.hpp"

#include <fmt/format.h>

#include "wavicon/audio/error.hpp"

namespace wavicon::measure_detail {

Alignment lined_up(AudioSource& a, AudioSource& b, AlignOptions options) {
  if (const auto found = align(a, b, options)) return *found;
  const double needed = options.least_confidence;
  options.least_confidence = 0;
  const auto doubtful = align(a, b, options);
  throw Error(
      ErrorCode::bad_input,
      fmt::format(
          "A and B have too little in common to be lined up: the correlation stands {:.1f} times over its "
          "mean, {:g} are needed",
          doubtful ? doubtful->confidence : 0.0, needed));
}

}  // namespace wavicon::measure_detail
