// SPDX-License-Identifier: MIT
#pragma once
// Several steady sines at once, and one sine whose level runs. Internal to `intake`.

#include <optional>
#include <span>
#include <vector>

namespace wavicon::intake_detail {

struct SteadyLine {
  double cycles_per_frame = 0;
  double amplitude = 0;
  double phase_cycles = 0;  ///< of its sine at the first sample of the stretch
};

struct SteadyLines {
  std::vector<SteadyLine> lines;  ///< by frequency
  double stray = 0;               ///< RMS of what they leave over the signal's
};

/// The lines of a stretch that stands still: two to forty, whose phases and levels keep from block to block
/// and which are most of it; none otherwise.
[[nodiscard]] std::optional<SteadyLines> steady_lines(std::span<const double> x);

/// A sine whose level changes evenly in dB.
struct LevelRamp {
  double cycles_per_frame = 0;
  double from_amplitude = 0, to_amplitude = 0;  ///< at the ends of the stretch
  double phase_cycles = 0;                      ///< at its first sample
  double off_db = 0;                            ///< most by which a level lies off the line
};

/// @return none when the level does not run by 6 dB at least, evenly to 0.1 dB in the upper 35 dB.
[[nodiscard]] std::optional<LevelRamp> level_ramp(std::span<const double> x, double sample_rate_hz);

}  // namespace wavicon::intake_detail
