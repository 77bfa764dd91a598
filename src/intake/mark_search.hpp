// SPDX-License-Identifier: MIT
#pragma once
// Marks looked for in every channel of a source, block by block, and placed to a fraction of a sample.
// Internal.

#include <span>
#include <vector>

#include "wavicon/audio/source.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/intake/locate.hpp"

namespace wavicon::intake_detail {

struct Found {
  FoundMark mark;
  int channel = 0;
};

/// Delay of `segment` against `mark`, a fraction of a sample, and the gain there: the maximum of the
/// correlation between samples, by Newton's method on the cross-spectrum.
///
/// @param segment  as long as the mark, off by less than a quarter of the mark's shortest period.
[[nodiscard]] FoundMark refine(std::span<const double> segment, std::span<const double> mark,
                               double first_frame, double match, RealTransforms& transforms);

/// What stands out of a matched filter, forwards and backwards marks apart, over all channels.
struct FoundMarks {
  std::vector<Found> forwards;
  std::vector<Found> backwards;
};

/// @param mark     at the source's rate. @param highest_hz  frequency that the mark reaches there.
[[nodiscard]] FoundMarks search_marks(AudioSource& source, const std::vector<double>& mark, double highest_hz,
                                      double least_match, RealTransforms& transforms);

}  // namespace wavicon::intake_detail
