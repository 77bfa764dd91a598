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
/// Where the curve has fallen 3 dB below `level` for good, and falls on to its end (a shelf has no edge).
/// @param way  -1: the lower edge; 1: the upper one.
[[nodiscard]] std::optional<ResponseEdge> find_edge(std::span<const ResponsePoint> points, double level,
                                                    int way, double sample_rate_hz);
/// |H|² = (1 + v²x)/(1 + x), x = (f/f0)^2n / v, fitted with n = 1 and 2, on the frequency axis as it is and
/// as the bilinear transform bends it; none when neither comes within 0.15
/// dB.
[[nodiscard]] std::optional<ResponseShelf> find_shelf(std::span<const ResponsePoint> points,
                                                      double reference_hz, double sample_rate_hz);

/// Gain, ripple, level of the band, edges, hump and shelf of a curve, as the options ask for them.
/// @param with_shelf  a shelf takes a fit from twelve starts.
void describe(ChannelResponse& channel, const ResponseOptions& options, double sample_rate_hz,
              bool with_shelf = true);
/// Fills `uncertainty`, and takes out features that are no surer than not: those that most drawn curves do
/// not show, and those smaller than their own uncertainty. After describe.
/// @param resolution_hz  places nearer than that share their chance.
void add_uncertainties(ChannelResponse& channel, const ResponseOptions& options, double sample_rate_hz,
                       double resolution_hz);
/// By how much its corner and gain move with the places of the curve.
[[nodiscard]] ResponseShelf shelf_uncertainty(std::span<const ResponsePoint> points,
                                              const ResponseShelf& shelf);

}  // namespace wavicon::measure_detail
