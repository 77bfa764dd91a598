// SPDX-License-Identifier: MIT
#pragma once
// Where steps of tone lie in a capture whose level a device moves all the time: by the steps alone. Internal
// to `intake`.

#include <optional>
#include <vector>

#include "wavicon/audio/source.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::intake_detail {

/// A place of a stimulus at which its level jumps, in one tone.
struct LevelEdge {
  double frame = 0;
  double hz = 0;
};

/// A device that moves the gain slowly keeps a jump where it was: within some periods around each edge the
/// capture is the stimulus times a gain that runs linearly, at one delay alone.
///
/// @param edges  with the frequency of the tone on both sides.
/// @return the delay of the stimulus's frame 0 in frames, to half a period; none when fewer than four edges
/// jump by 6 dB, when one of them does not lie in the capture or is not seen there, or when a delay half a
/// period or more away leaves less than four times as much.
[[nodiscard]] std::optional<double> delay_by_edges(Stimulus& stimulus, const std::vector<LevelEdge>& edges,
                                                   AudioSource& capture, int channel);

}  // namespace wavicon::intake_detail
