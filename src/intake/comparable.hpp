// SPDX-License-Identifier: MIT
#pragma once
// What two sources have to be before they are compared. Internal to `intake`.

#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

/// @throws Error bad_argument for a channel, from 0, that is not there; bad_input for 0 frames.
void require_channel(AudioSource& source, int channel);
/// @throws Error bad_argument for different rates or channels that are not there; bad_input for 0 frames.
void require_comparable(AudioSource& reference, AudioSource& capture, const AlignOptions& options);

}  // namespace wavicon::intake_detail
