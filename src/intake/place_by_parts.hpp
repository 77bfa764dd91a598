// SPDX-License-Identifier: MIT
#pragma once
// Where a stimulus of tones lies in a capture whose levels a device has changed. Internal to `intake`.

#include <optional>

#include "wavicon/audio/source.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::intake_detail {

/// Where the stimulus lies: frame n of it at first_frame + n · frames_per_frame of the capture.
struct PartsPlace {
  double first_frame = 0;
  double frames_per_frame = 1;
};

/// Tones are taken out of the capture by themselves; beginnings and ends of those that have the frequency and
/// the length of one of the stimulus's vote for a delay, and lie on one line. The phase of the tones then
/// says it to a part of a sample, with the drift when it stands out.
///
/// @return none when fewer than three tones agree, or less than half; when another delay has nearly as many
/// votes; when a tone lies beside the line, or its phase by a frame, as where frames were lost; when a block
/// has no end that lies on it. Then the steps alone are tried (delay_by_edges()): a device that never comes
/// to rest leaves no tone steady.
[[nodiscard]] std::optional<PartsPlace> place_by_parts(Stimulus& stimulus, AudioSource& capture, int channel);

}  // namespace wavicon::intake_detail
