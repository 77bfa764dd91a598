// SPDX-License-Identifier: MIT
#pragma once
// One measurement of one capture, as files are measured. Internal to `measure`.

#include <optional>
#include <vector>

#include "wavicon/measure/measurement.hpp"

namespace wavicon::measure_detail {

/// @param a  for measurements of B against A; none: what was played.
[[nodiscard]] std::vector<Sheet> measured_as_a_file(const MeasurementDescriptor& descriptor,
                                                    Measurement& measurement, const JudgedCapture& capture,
                                                    const std::optional<JudgedCapture>& a,
                                                    const GatePolicy& policy);

}  // namespace wavicon::measure_detail
