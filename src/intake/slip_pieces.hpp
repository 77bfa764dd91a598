// SPDX-License-Identifier: MIT
#pragma once
// Slips between segments whose delays are known, and the pieces of a capture between them. Internal to
// `intake`.

#include <cstdint>
#include <vector>

#include "delay_line.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

/// Delays that change by more than drift explains, and stay so. Their frames are counted later, by the line's
/// pace: 0 here.
/// @param segments  in order.
[[nodiscard]] std::vector<Slip> slips_between(const std::vector<Segment>& segments, double sample_rate_hz,
                                              const AlignOptions& options);

/// Steps that are too small to be seen before the delays are exact, a few frames at most, as slips.
/// @param segments  in order, `length` frames each, with their final delays.
[[nodiscard]] std::vector<Slip> small_slips_between(const std::vector<Segment>& segments,
                                                    std::int64_t length);

/// Those of the longest piece without a slip; all where no piece holds one.
/// @param slips  in order.
[[nodiscard]] std::vector<Segment> longest_piece(const std::vector<Segment>& segments,
                                                 const std::vector<Slip>& slips);

/// The line holds between the slips around its segments: takes in the ends of that piece.
/// @param segments  of the line, `length` frames each; at least one.
void keep_to_piece(Alignment& found, const std::vector<Segment>& segments, std::int64_t length);

}  // namespace wavicon::intake_detail
