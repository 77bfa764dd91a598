// SPDX-License-Identifier: MIT
#pragma once
// The two ways to measure the harmonics of one steady stretch, and what they share. Internal to `measure`.

#include <span>
#include <vector>

#include "measure/common/spectral_tools.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"

namespace wavicon::measure_detail {

inline constexpr double kPeriodsForLines = 25;  ///< lobes of neighbouring orders touch below this
inline constexpr double kPeriodsAtLeast = 3;    ///< the rough count may fall short of it by its own error
inline constexpr double kRoughPeriodsAtLeast = 2.9;  // fewer do not show a frequency

/// Where an order shows: order × fundamental, mirrored at 0 and half the rate.
[[nodiscard]] double folded_hz(double hz, double sample_rate_hz);
/// Fills `order`, `at_hz`, `folded` and `hidden` for orders 2 … highest; `resolution_hz` is how near two
/// lines may lie.
[[nodiscard]] std::vector<HarmonicOrder> place_orders(double fundamental_hz, double sample_rate_hz,
                                                      int highest, double resolution_hz);
/// One period of the tone, from the samples laid over each other by their phase: fills the channel's
/// `period_…`.
///
/// @param tone_phase  of the tone's cosine at the first sample, in radians.
void fold_to_period(std::span<const double> stretch, double sample_rate_hz, double tone_phase,
                    ChannelHarmonics& channel);
/// Takes the noise off a raw power reading, or turns it into a bound.
/// @param windows  over which the power is a mean.
void set_level(HarmonicOrder& order, double raw_power, double noise_power, int windows);
/// Of the power of lines of that power together, which noise of a mean power each (squares summed) may move
/// in each of some windows: half the interval of 95 %, in dB.
/// @param beside  Σ line power × noise power. @param squares  Σ noise power².
inline constexpr double kNoiseBlockLobes = 5;  ///< of a line, in which noise is looked for beside other lines
[[nodiscard]] double line_uncertainty_db(double power, double beside, double squares, int windows);
/// THD from the orders below half the rate.
void set_thd(ChannelHarmonics& channel);

/// Stretch of 25 periods and more: lobes and lines of a windowed spectrum.
[[nodiscard]] ChannelHarmonics measure_by_lines(std::span<const double> stretch, double sample_rate_hz,
                                                double rough_hz, const HarmonicsOptions& options,
                                                SpectralTools& tools);
/// Shorter stretch: one least-squares fit of everything.
[[nodiscard]] ChannelHarmonics measure_by_joint_fit(std::span<const double> stretch, double sample_rate_hz,
                                                    double rough_hz, const HarmonicsOptions& options);

}  // namespace wavicon::measure_detail
