// SPDX-License-Identifier: MIT
#pragma once
// A response over time: cut out of the transform it came from, where its delay lies, and what turns one into
// another. Internal to `measure`.

#include <cstddef>
#include <optional>
#include <span>
#include <vector>

namespace wavicon::measure_detail {

inline constexpr std::size_t kImpulseBefore = 4096;  ///< frames kept before the lined-up delay, if there are

struct CutImpulse {
  std::vector<double> taps;
  std::size_t before = kImpulseBefore;  ///< taps before the delay that was lined up to
  std::size_t zero = kImpulseBefore;    ///< tap at which the common delay lies, to the whole frame
  double squares = 0;                   ///< of the fades: noise of so many frames
  double rest = 0;                      ///< of the delay, beside it
};

/// The response around frame 0 of a circular one, both ends faded so that the cuts make no ripple.
///
/// A main tap that holds nearly all around it is where the delay lies, to the whole frame: what marks read
/// besides is the doing of an equaliser.
///
/// @param tail  frames kept behind the delay; fewer when the circle is shorter.
/// @param rest  fraction of a frame that the line-up left.
/// @return none when there is nothing but zeros.
[[nodiscard]] std::optional<CutImpulse> cut_impulse(std::span<const double> circular, std::size_t tail,
                                                    double rest);

}  // namespace wavicon::measure_detail
