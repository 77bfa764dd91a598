// SPDX-License-Identifier: MIT
#pragma once
// How much of a reference lies where an alignment says, at one level. Internal to `intake`.

#include <optional>
#include <vector>

#include "slip_check.hpp"

namespace wavicon::intake_detail {

/// Share of the reference's power in segments that lie, to a small part of their power, where the alignment
/// says, and at one level, 0 … 1. What comes again (a bar of a machine's drums) is found at other places by
/// its sound, and there each hit has a level of its own.
[[nodiscard]] double explained_power(const AlignedPair& pair, const Alignment& found);

/// Of other delays, to some frames, the one at which plainly more of the power is explained than `here`; none
/// when there is none.
[[nodiscard]] std::optional<double> better_explained(const AlignedPair& pair, const Alignment& found,
                                                     double here, const std::vector<double>& others);

}  // namespace wavicon::intake_detail
