// SPDX-License-Identifier: MIT
#pragma once
// What a unit does to levels: its static curve from a staircase, and how fast its gain moves from a block.
// Definitions: docs/dynamics.md.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/measure/dynamics/gain_steps.hpp"
#include "wavicon/measure/dynamics/static_curve.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

/// One step of a staircase.
struct LevelStep {
  LevelPair level;
  double uncertainty_db = 0;  ///< of the gain, k = 2, from what no order explains; the wander apart
  std::optional<double> thd_uncertainty_db;
  double wander_db = 0;          ///< between the two halves of what was measured: 0 when it has settled
  std::optional<double> thd_db;  ///< of B, orders up to 10 below half the rate; none when nothing stands out
};

struct StaircaseDynamics {
  std::string part;
  double frequency_hz = 0;
  std::vector<LevelStep> steps;      ///< rising in level; silent ones are left out
  std::size_t level_count = 0;       ///< of them that differ by more than 0.01 dB
  std::optional<StaticCurve> curve;  ///< none for fewer than 4 levels
};

struct BlockDynamics {
  std::string part;
  double frequency_hz = 0;
  double low_dbfs = 0;  ///< of A
  double high_dbfs = 0;
  double low_s = 0;  ///< lengths
  double high_s = 0;
  double after_s = 0;
  double window_s = 0;         ///< over which each value of the gain was taken
  GainStep attack;             ///< of the step up
  GainStep release;            ///< of the step down
  GainOverTime gain;           ///< from the start of the part
  std::vector<double> wave_s;  ///< outline of B: two values for each place, lowest and highest
  std::vector<double> wave;
  std::vector<double> attack_wave_s,
      attack_wave;  ///< B around the step up, 0 is the step; where it has times
  std::vector<double> release_wave_s, release_wave;  ///< and around the step down
};

struct ChannelDynamics {
  bool silent = false;
  std::vector<StaircaseDynamics> staircases;  ///< one for each frequency
  std::vector<BlockDynamics> blocks;
};

struct DynamicsResult {
  double sample_rate_hz = 0;
  std::vector<ChannelDynamics> channels;
};

/// Every staircase and block of the stimulus (or only `part`) in B against A.
///
/// Levels are those of the tone alone: weighted least squares (Kaiser, β = 20) over DC and orders up to 10,
/// on the second half of each step. The gain over time is a sliding fit of B on the tone as it was played and
/// its quadrature, over two periods (one, where the attack takes less than five), each value standing at the
/// centre of what weighed in.
///
/// @param a, b  hold the same stimulus, which is A's. A mono A goes with every channel of B.
/// @throws Error bad_argument when there is no such part; bad_input for NaN or infinity, or a part
/// that A or B does not hold.
/// @accuracy  dynamics_test.cpp
[[nodiscard]] WAVICON_EXPORT DynamicsResult measure_dynamics(const JudgedCapture& a, const JudgedCapture& b,
                                                             const std::string& part = "");

/// What the panel says, for the sentence that compares.
struct PanelValues {
  std::optional<double> attack_ms;
  std::optional<double> release_ms;
};

/// A capture of another unit and what its panel said.
struct LikeRung {
  double panel_ms = 0;
  DynamicsResult result;
};

/// Another unit over a row of values of its panel, for the sentence "as fast as … at 12 ms".
struct LikeLadder {
  std::string name;             ///< of the unit; empty: nothing to compare with
  std::vector<LikeRung> rungs;  ///< rising in panel_ms, of the same A
};

/// Readings, the curves "static curve", "gain", "THD", "gain over time", "waveform", "attack shape" and
/// "release shape", and findings.
[[nodiscard]] WAVICON_EXPORT Sheet dynamics_sheet(const DynamicsResult& result, const CaptureInfo& a,
                                                  const CaptureInfo& b, const PanelValues& panel = {},
                                                  const LikeLadder& like = {});

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& dynamics_readings();

}  // namespace wavicon
