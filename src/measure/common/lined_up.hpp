// SPDX-License-Identifier: MIT
#pragma once
// Two recordings lined up, or refused with the figure. Internal to `measure`.

#include "wavicon/intake/align.hpp"

namespace wavicon::measure_detail {

/// @throws Error bad_input when they have too little in common, with what the correlation reached.
[[nodiscard]] Alignment lined_up(AudioSource& a, AudioSource& b, AlignOptions options);

}  // namespace wavicon::measure_detail
