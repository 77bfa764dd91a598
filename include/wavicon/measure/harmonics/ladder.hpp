// SPDX-License-Identifier: MIT
#pragma once
// Harmonics over a ladder of levels: how each order grows.

#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// One harmonics sheet at one level of the stimulus.
struct LadderStep {
  double frequency_hz = 0;
  double level_dbfs = 0;
  Sheet sheet;
};

/// From the sheets of all steps: readings `hN_growth_db_per_db` (by how many dB an order's level grows for
/// each dB of the stimulus, least squares over the steps in which it was read: N for a weak curvature of
/// order N), THD and orders over the level as curves "THD", "H2" …, of each frequency and channel; bounds are
/// left out.
///
/// @throws Error bad_argument for no step.
[[nodiscard]] WAVICON_EXPORT Sheet harmonics_ladder(const std::vector<LadderStep>& steps,
                                                    const CaptureInfo& capture);

/// The ladder of one capture of several.
struct CaptureLadder {
  CaptureInfo capture;
  double setting = 0;  ///< what tells it apart: the number in its name
  std::vector<LadderStep> steps;
};

/// Of captures at several values of a setting: curves "THD at -20 dBFS" over it, one for each step (of
/// several frequencies with theirs), and how far it goes at the loudest step that all have.
///
/// @param ladders  rising in their setting. @param word  what the setting is called.
[[nodiscard]] WAVICON_EXPORT Sheet harmonics_over_setting(const std::vector<CaptureLadder>& ladders,
                                                          const std::string& word);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& harmonics_ladder_readings();

}  // namespace wavicon
