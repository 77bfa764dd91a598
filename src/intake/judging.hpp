// SPDX-License-Identifier: MIT
#pragma once
// How the gate decides over findings. Internal to `intake`.

#include <vector>

#include "wavicon/intake/judged_capture.hpp"

namespace wavicon::intake_detail {

/// What goes on into the sheets: faults that are let through, and warnings; faults that wait for a decision
/// go into held.
///
/// @throws UnfitCapture for any other fault.
[[nodiscard]] std::vector<Finding> let_through(std::vector<Finding> findings, const GatePolicy& policy,
                                               std::vector<Finding>& held);

/// @throws UnfitCapture naming channel and frame of the first broken sample.
void refuse_broken_samples(const HealthResult& health);

}  // namespace wavicon::intake_detail
