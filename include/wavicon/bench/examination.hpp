// SPDX-License-Identifier: MIT
#pragma once
// What can be asked of a unit beside what it does to a signal: is it the same every time, does it come back
// from broken input, what does its audio thread ask for, what does it cost.

#include <string>

#include "wavicon/audio/export.hpp"
#include "wavicon/path/unit.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

[[nodiscard]] WAVICON_EXPORT const ReadingTable& examination_readings();

struct ExaminationOptions {
  double sample_rate_hz = 48000;
  int channel_count = 0;   ///< 0: as many as the unit has inputs, at most two
  int block_frames = 512;  ///< that others are compared with
};

/// Runs a unit a few dozen times in this process, with signals of 1 s; what crashes takes the process along,
/// and its calls are watched from then on (call_watch.hpp): for a process of its own.
///
/// Two runs are compared sample by sample. Where two equal ones differ already, nothing else is compared.
///
/// @throws Error as open_unit() and Unit::prepare(); unit_failed when the output of sound input is broken.
[[nodiscard]] WAVICON_EXPORT Sheet examine(const std::string& unit, const UnitSearch& search,
                                           const ExaminationOptions& options = {});

}  // namespace wavicon
