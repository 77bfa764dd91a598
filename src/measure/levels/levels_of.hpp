// SPDX-License-Identifier: MIT
#pragma once
// Levels of a stretch of samples that a measurement already holds. Internal to `measure`.

#include "wavicon/measure/levels/levels.hpp"

namespace wavicon::measure_detail {

/// As measure_levels(), of samples whose capture has been judged.
[[nodiscard]] LevelsResult levels_of(AudioSource& source, const LevelsOptions& options);

}  // namespace wavicon::measure_detail
