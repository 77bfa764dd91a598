// SPDX-License-Identifier: MIT
#pragma once
// What the two ways to measure fold-back, a sweep and a staircase of tones, do alike. Internal to `measure`.

#include "wavicon/measure/aliasing/aliasing.hpp"

namespace wavicon::measure_detail {

/// @throws Error bad_argument for orders or a band out of range.
void require_valid(const AliasingOptions& options);

/// Fills `folded`, `total` and `harmonic` of a channel from its frames.
///
/// @param result       for options, rate and band. @param floor_ratio  ranges are where an order stands 10 dB
/// over it.
void find_products(const AliasingResult& result, double floor_ratio, ChannelAliasing& channel);

}  // namespace wavicon::measure_detail
