// SPDX-License-Identifier: MIT
#include "comparable.hpp"

#include <fmt/format.h>

#include "wavicon/audio/error.hpp"

namespace wavicon::intake_detail {

void require_channel(AudioSource& source, int channel) {
  if (source.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  if (channel < 0 || channel >= source.channel_count())
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no channel {}, it has {}", channel + 1, source.channel_count()));
}

void require_comparable(AudioSource& reference, AudioSource& capture, const AlignOptions& options) {
  if (reference.sample_rate_hz() != capture.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("the reference has {:g} Hz and the capture {:g} Hz: bring both to one rate first",
                            reference.sample_rate_hz(), capture.sample_rate_hz()));
  require_channel(reference, options.reference_channel);
  require_channel(capture, options.capture_channel);
}

}  // namespace wavicon::intake_detail
