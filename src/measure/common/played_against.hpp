// SPDX-License-Identifier: MIT
#pragma once
// Measurements that have to know where each part is in A and in B. Internal to `measure`.

#include "wavicon/measure/measurement.hpp"

namespace wavicon::measure_detail {

/// A of a request. @throws Error bad_input when A holds no stimulus with a known place, or B does not hold
/// it.
[[nodiscard]] const JudgedCapture& played_reference(const MeasureRequest& request, const JudgedCapture& b);

/// @throws Error bad_input for a B in which nothing says where A's parts lie.
void require_placed(const JudgedCapture& a, const JudgedCapture& b);

}  // namespace wavicon::measure_detail
