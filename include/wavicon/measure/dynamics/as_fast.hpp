// SPDX-License-Identifier: MIT
#pragma once
// Another unit, measured over a row of values of its panel, as a ruler of times. Definitions:
// docs/dynamics.md.

#include <optional>
#include <span>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// What the other unit took at one value of its panel.
struct RungTime {
  double panel_ms = 0;
  double time_s = 0;
  double uncertainty_s = 0;  ///< k = 2
};

/// At which value of its panel the other unit takes as long.
struct AsFast {
  double panel_ms = 0;
  double uncertainty_ms = 0;            ///< k = 2; 0 for a bound
  double below_ms = 0, above_ms = 0;    ///< the rungs on either side
  bool faster = false, slower = false;  ///< than all rungs: panel_ms is that of the nearest one
};

/// Between two rungs the time goes by a power of the panel's value (in a straight line from a rung at 0); by
/// how much a straight line would say something else counts as uncertain, as do the times themselves.
///
/// @param rungs  rising in panel_ms. @param time_s, uncertainty_s  of what is looked up, > 0.
/// @return none where there are fewer than two rungs, or their times do not rise with the panel beyond what
/// is uncertain of them.
[[nodiscard]] WAVICON_EXPORT std::optional<AsFast> as_fast_as(std::span<const RungTime> rungs, double time_s,
                                                              double uncertainty_s);

}  // namespace wavicon
