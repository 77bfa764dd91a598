// SPDX-License-Identifier: MIT
#pragma once
// Tones one after the other made into steps, blocks and bursts. Internal to `intake`.

#include <vector>

#include "wavicon/intake/recognise.hpp"

namespace wavicon::intake_detail {

/// Tones that follow each other without anything between them: low, high and low again without a pause is a
/// block; equal ones at equal distances are bursts; the rest are steps. Tones whose frequency goes up and
/// down more than once may be a tune: they are no longer certain.
[[nodiscard]] std::vector<RecognisedPart> group_tones(std::vector<RecognisedPart> parts,
                                                      double sample_rate_hz);

}  // namespace wavicon::intake_detail
