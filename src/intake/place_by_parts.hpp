// SPDX-License-Identifier: MIT
#pragma once
// Where a stimulus of tones lies in a capture whose levels a device has changed. Internal to `intake`.

#include <optional>

#include "wavicon/audio/source.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::intake_detail {

/// Tones are taken out of the capture by themselves; beginnings and ends of those that have the frequency and
/// the length of one of the stimulus's vote for a delay. The phase of the tones then says it to a part of a
/// sample, within half a period.
///
/// @return the capture's frame at which frame 0 of the stimulus lies; none when fewer than six ends agree, or
/// less than half, or another delay has nearly as many votes.
[[nodiscard]] std::optional<double> place_by_parts(const Stimulus& stimulus, AudioSource& capture,
                                                   int channel);

}  // namespace wavicon::intake_detail
