#pragma once
// The level of what may be nothing. Internal to `measure`.

#include <optional>

#include "wavicon/audio/decibels.hpp"

namespace wavicon::measure_detail {

/// 20·log10 of an amplitude, full scale = 1; none for 0, whose level does not exist.
[[nodiscard]] inline std::optional<double> level_dbfs(double amplitude) {
  return amplitude > 0 ? std::optional(db_from_ratio(amplitude)) : std::nullopt;
}

}  // namespace wavicon::measure_detail
