// SPDX-License-Identifier: MIT
#pragma once
// The level of what may be nothing. Internal to `measure`.

#include <cmath>
#include <optional>

#include "wavicon/audio/decibels.hpp"

namespace wavicon::measure_detail {

/// 20·log10 of an amplitude, full scale = 1; none for 0, whose level does not exist.
[[nodiscard]] inline std::optional<double> level_dbfs(double amplitude) {
  return amplitude > 0 ? std::optional(db_from_ratio(amplitude)) : std::nullopt;
}

/// A level as it is printed with two decimals: without the sign of what rounds to zero.
[[nodiscard]] inline double tidy_db(double db) { return std::abs(db) < 0.005 ? 0.0 : db; }

}  // namespace wavicon::measure_detail
