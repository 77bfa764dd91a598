// SPDX-License-Identifier: MIT
#pragma once
// The fade at one end of a steady tone. Internal to `intake`.

#include <optional>
#include <span>

namespace wavicon::intake_detail {

struct FittedFade {
  double edge = 0;    ///< sample at which it begins, fractional; below 0: before what was given
  double frames = 0;  ///< from there to the full level
  double stray = 0;   ///< RMS of what it leaves
  bool raised_cosine = false;
};

/// Least squares over where a fade begins and how long it is, of three shapes (raised cosine, straight line,
/// quarter of a sine), by Gauss and Newton; the one that leaves least.
///
/// @param x     from the edge inwards. @param tone  what x would be without the fade, sample by sample.
/// @param seen  samples after which x is the tone within 2 %.
/// @return nothing where no shape comes to rest.
[[nodiscard]] std::optional<FittedFade> fit_fade(std::span<const double> x, std::span<const double> tone,
                                                 double seen);

}  // namespace wavicon::intake_detail
