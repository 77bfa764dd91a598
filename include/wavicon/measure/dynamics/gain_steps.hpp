// SPDX-License-Identifier: MIT
#pragma once
// How a gain goes from one value to another after a step of the level: times, and the detector that explains
// them. Definitions: docs/dynamics.md.

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/measure/dynamics/static_curve.hpp"

namespace wavicon {

/// Gain over time after (and, below 0, before) a step of the input.
struct GainOverTime {
  std::vector<double> time_s;  ///< rising; 0 is the step
  std::vector<double> gain_db;
};

/// What may move the gain.
enum class DetectorModel {
  gain_in_db,             ///< the gain in dB goes exponentially to what the level asks for
  mean_square,            ///< the mean square goes exponentially, and the static curve follows it
  amplitude,              ///< the same of the amplitude
  gain,                   ///< the gain as a factor goes exponentially
  mean_square_then_gain,  ///< a mean square, and after it the gain in dB: an S
  two_constants           ///< the gain in dB by two exponentials at once
};

/// "gain in dB", "mean square", …
[[nodiscard]] WAVICON_EXPORT std::string name_of(DetectorModel model);
/// Whether it hears the mean square ("rms") rather than the peak.
[[nodiscard]] WAVICON_EXPORT bool hears_rms(DetectorModel model);

struct ModelFit {
  DetectorModel model = DetectorModel::gain_in_db;
  double constant_s = 0;  ///< time constant
  double second_s = 0;    ///< of the gain behind a mean square, or the longer one of two
  double share = 0;       ///< of the longer one, where there are two
  double hold_s = 0;      ///< the gain stands still first; 0 unless that halves the error
  double error_db = 0;    ///< RMS of what is left
  double constant_uncertainty_s = 0, second_uncertainty_s = 0, hold_uncertainty_s = 0;  ///< k = 2
};

/// What is shown of a step: from so long before it to so long behind, as multiples of the time to 90 %.
inline constexpr double kShownBefore = 0.15, kShownBehind = 4;

struct GainStep {
  double start_db = 0;
  double end_db = 0;
  std::optional<double> onset_s;  ///< to 10 % of the change in dB; none when it is not reached
  std::optional<double> to_63_s;  ///< 63.2 %
  std::optional<double> to_90_s;  ///< 90 %
  /// k = 2: how far the gain scatters at rest over its slope there, and what the window does to it.
  double onset_uncertainty_s = 0, to_63_uncertainty_s = 0, to_90_uncertainty_s = 0;
  double overshoot_uncertainty_db = 0;
  bool unsettled = false;   ///< the gain still moves before the step
  double overshoot_db = 0;  ///< beyond the end
  double reached = 1;       ///< share of the change that was seen by the end
  bool open_end = false;    ///< it still moves by the end, and where it will end is not known: no times
  /// Of an open end: time after the step in which one exponential, its end unknown, would be over to 99 %;
  /// none where what was seen does not hold its constant within a third.
  std::optional<double> needed_s;
  std::vector<ModelFit> models;  ///< best first; empty when the change is below 1 dB
};

struct GainStepOptions {
  double from_dbfs = 0;                ///< of the input before the step
  double to_dbfs = 0;                  ///< and after it
  const StaticCurve* curve = nullptr;  ///< without one only models of the gain itself can be tried
  std::optional<double>
      end_db;  ///< where it will end if it still moves by then; none or still: mean of the last 15 %
  double resolution_s = 0;  ///< over which each value of the gain was taken
  bool release = false;     ///< also tries two constants; of one that still moves end_db has to be known
};

/// Times from the gain's value before the step to its end, in dB, and the models in the order of their
/// errors. Two constants are preferred only if they halve the error of the best of the others; of an attack
/// they are tried where the static curve is known, as without it a mean square looks like them.
///
/// @param gain  with some values before 0. @throws Error bad_argument for no value before or after the step.
/// @accuracy  measurements of built compressors: gain_steps_test.cpp
[[nodiscard]] WAVICON_EXPORT GainStep measure_gain_step(const GainOverTime& gain,
                                                        const GainStepOptions& options);

}  // namespace wavicon
