// SPDX-License-Identifier: MIT
#include "wavicon/stimulus/stimulus_source.hpp"

namespace wavicon {

void StimulusSource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(channel_count());
  const std::size_t length = planar.size() / channels;
  for (std::size_t c = 0; c < channels; ++c)
    stimulus_.render(first_frame, static_cast<int>(c), planar.subspan(c * length, length));
}

}  // namespace wavicon
