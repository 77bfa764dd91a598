// SPDX-License-Identifier: MIT
#pragma once
// What level comes out for which level in: threshold, ratio, knee and make-up of a compressor, limiter,
// expander or gate. Definitions: docs/dynamics.md.

#include <optional>
#include <span>
#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A steady level, in and out, as peaks of a sine in dBFS.
struct LevelPair {
  double in_dbfs = 0;
  double out_dbfs = 0;
  double uncertainty_db = 0;  ///< of the gain, k = 2; 0: not known
};

/// Two straight lines joined by a parabola; one of them rises by one dB per dB.
struct WAVICON_EXPORT StaticCurve {
  enum class Kind { linear, compressor, limiter, upward_expander, expander, gate, upward_compressor };
  Kind kind = Kind::linear;
  double threshold_dbfs = 0;  ///< of the input: where the lines would meet
  double slope = 1;           ///< dB out per dB in, on the side that is not 1
  double knee_db = 0;         ///< width of the parabola
  double makeup_db = 0;       ///< gain on the side whose slope is 1
  double fit_error_db = 0;    ///< RMS of what the curve leaves
  double step_db = 0;         ///< between levels, next to the threshold
  double least_gain_db = 0;   ///< of what was measured
  double most_gain_db = 0;
  /// k = 2, from what the curve leaves and what the levels are uncertain by; none where the levels do not
  /// tell the parameters apart.
  struct Uncertainty {
    double threshold_db = 0, slope = 0, makeup_db = 0;
    std::optional<double> knee_db;  ///< none of a knee that is narrower than the steps
  };
  std::optional<Uncertainty> uncertainty;
  std::optional<double> range_from_dbfs;  ///< where the gain stops changing again; steps beyond are left out

  /// Gain in dB at an input level; a straight line for Kind::linear.
  [[nodiscard]] double gain_db(double in_dbfs) const;
  /// dB in per dB out, as a panel names it; none for a slope below 1/500, which nobody can tell from a limit.
  [[nodiscard]] std::optional<double> ratio() const;
  /// Whether the knee is narrower than the steps: then knee_db is only an upper bound.
  [[nodiscard]] bool knee_undecided() const;
};

/// "compressor", "limiter", "upward expander", "expander", "gate", "upward compressor", "linear".
[[nodiscard]] WAVICON_EXPORT std::string name_of(StaticCurve::Kind kind);

/// Least squares over threshold, slope (0.002 … 1.5 above it, up to 50 below), knee and make-up, from several
/// starts; the side that fits better is taken. A slope below 0.04 is a limiter's; above 10, below the
/// threshold, a gate's.
///
/// @param levels  at least 4, rising in in_dbfs. @throws Error bad_argument for fewer or others.
/// @accuracy  exact on clean data; with gain noise of 0.02 dB threshold 0.05 dB, ratio 5 %
///            (static_curve_test.cpp)
[[nodiscard]] WAVICON_EXPORT StaticCurve fit_static_curve(std::span<const LevelPair> levels);

}  // namespace wavicon
