// SPDX-License-Identifier: MIT
#pragma once
#include <cstdint>

namespace wavicon::trials {

struct TrialCounts {
  int readings = 0;       ///< that could be compared with a truth
  int within = 0;         ///< their uncertainty, or what the trial allows where none is given
  int near = 0;           ///< outside, by up to three times as much
  int bounds = 0;         ///< that hold
  int left_out = 0;       ///< not given, or the capture was refused
  int told = 0;           ///< farther off, beside a warning
  int silent_errors = 0;  ///< farther off, or a bound that does not hold, without a warning
};

/// Random signals through random units, damaged or not, measured as the program does; each with its truth in
/// closed form or by sums over the samples. Prints each silent error with its seed, and a table if asked to.
TrialCounts reading_trials(int count, std::uint64_t seed, bool table);

/// One of these trials again: prints what was played, every truth, and all that the sheet says.
void show_trial(int index, std::uint64_t seed);

}  // namespace wavicon::trials
