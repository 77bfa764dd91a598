// SPDX-License-Identifier: MIT
#pragma once
// What a curve shows: edges, humps, shelves. Internal to `measure`.

#include <optional>
#include <span>

#include "wavicon/measure/response/response.hpp"

namespace wavicon::measure_detail {

/// Places of the axis to the octave.
inline constexpr double kPerOctave = 48;

[[nodiscard]] double db_of(const ResponsePoint& point);

/// The level at which most of the curve stands: the mean of the eighth of all places that lie closest
/// together.
[[nodiscard]] double plateau_db(std::span<const ResponsePoint> points);

/// The largest hump or dip whose flanks come back to one level; all that was measured is looked at first (a
/// wide flank reaches far), then the band.
[[nodiscard]] std::optional<ResponseBell> find_bell(std::span<const ResponsePoint> points, double from_hz,
                                                    double to_hz);
/// Where the curve has fallen 3 dB under `level` for good. @param way  -1: the lower edge; 1: the upper one.
[[nodiscard]] std::optional<ResponseEdge> find_edge(std::span<const ResponsePoint> points, double level,
                                                    int way, double sample_rate_hz);
/// |H|² = (1 + v²x)/(1 + x), x = (f/f0)^2n / v, fitted with n = 1 and 2, on the frequency axis as it is and
/// as the bilinear transform bends it; none when neither comes within 0.15
/// dB.
[[nodiscard]] std::optional<ResponseShelf> find_shelf(std::span<const ResponsePoint> points,
                                                      double reference_hz, double sample_rate_hz);

}  // namespace wavicon::measure_detail
