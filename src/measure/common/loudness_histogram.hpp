// SPDX-License-Identifier: MIT
#pragma once
// How often a programme is how loud. Internal to `measure`.

#include <string>
#include <vector>

#include "wavicon/sheet/sheet.hpp"

namespace wavicon::measure_detail {

/// Share of the time in % over momentary loudness, in bins of 1 LU around whole LUFS; what is at or below -70
/// LUFS, the absolute gate of ITU-R BS.1770, is left out. Empty when nothing is louder.
[[nodiscard]] Curve loudness_histogram(const std::string& name, const std::vector<double>& momentary_lufs);

}  // namespace wavicon::measure_detail
