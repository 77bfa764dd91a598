// SPDX-License-Identifier: MIT
#pragma once
// Where the bands of a short sound agree that it lies, however a filter weighs them. Internal to `intake`.

#include <span>

#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {

/// What the bands of a stretch say of its delay.
struct BandVote {
  double lag = 0;        ///< frames by which y comes after x where most bands agree; whole
  double agreement = 0;  ///< there: mean of the bands' correlations, -1 … 1; below 0: inverted
  int bands = 0;         ///< that were asked
};

/// Third octaves that sound in both, to 60 dB below the densest, each with one vote: the mean over bands of
/// Re Σ Y X* e^{jωτ} / √(Σ|X|² Σ|Y|²) over delays of -reach … reach. A loud low band that a filter turned in
/// phase has no more to say than the band of the beater.
/// @param x, y  windowed alike, of one length. @param reach  frames.
[[nodiscard]] BandVote vote_of_bands(std::span<const double> x, std::span<const double> y,
                                     double sample_rate_hz, std::int64_t reach, RealTransforms& transforms);

}  // namespace wavicon::intake_detail
