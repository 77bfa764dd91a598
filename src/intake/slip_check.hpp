// SPDX-License-Identifier: MIT
#pragma once
// Whether the line and the slips of an alignment explain where all of the reference is. Internal to `intake`.

#include <cstdint>
#include <vector>

#include "delay_line.hpp"
#include "segment_search.hpp"
#include "segment_timer.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

/// Frames by which a slip may move what follows it, where nothing is found nearer.
inline constexpr std::int64_t kFarthestSlip = 60000;

/// Two slips between which no place of a segment lies whole are one, or none: nothing holds what they say.
void merge_unseen_pieces(std::vector<Slip>& slips, const std::vector<std::int64_t>& places,
                         std::int64_t length);

/// By what an alignment is looked at; kept during the call only.
struct AlignedPair {
  AudioSource& reference;
  AudioSource& capture;
  const AlignOptions& channels;
  SegmentTimer& timer;
  SegmentSearch& search;
  const std::vector<std::int64_t>& places;  ///< of segments over all of the reference
  std::int64_t length;                      ///< of a segment
};

/// Of sounds that come again, such as a machine's drums, another cycle fits by its sound and not by its
/// levels; what was not found at all leaves a piece without the capture; and a few frames that are missing
/// between two hits are no slip yet. The count of lost frames is told where each piece between slips is there
/// as the best segments are, and none of them fits better to its end at another delay. A bar of a loop that
/// was changed is no slip: what follows it is on the line again.
///
/// @param line_segments  by which the line was drawn.
[[nodiscard]] bool slips_are_told(const AlignedPair& pair, const std::vector<Segment>& line_segments,
                                  const Line& line, const Alignment& found);

}  // namespace wavicon::intake_detail
