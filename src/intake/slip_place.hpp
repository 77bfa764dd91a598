// SPDX-License-Identifier: MIT
#pragma once
// Where exactly frames were lost or inserted, once it is known how the capture lies before and after it.
// Internal to `intake`.

#include "delay_line.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

struct SlipSides {
  Line before;  ///< delay of the reference's frames
  Line after;
  double gain = 1;
};

/// The place at which changing from one line to the other leaves least of the capture over the gain times
/// the reference. Where it makes no difference, in a pause, the slip's two places lie at its ends; of lost
/// frames the second one lies behind them.
///
/// @param found  its two places bound where it is looked for; its count is kept.
[[nodiscard]] Slip place_slip(AudioSource& reference, AudioSource& capture, const AlignOptions& channels,
                              const SlipSides& sides, const Slip& found);

}  // namespace wavicon::intake_detail
