// SPDX-License-Identifier: MIT
#pragma once
// How two signals relate: level, time, phase, polarity, and what of them is the same. Definitions:
// docs/pair.md.

#include <optional>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct PairOptions {
  int a_channel = 0;
  int b_channel = 0;
  double from_s = 0;
  std::optional<double> to_s;
};

/// A third-octave band of both.
struct PairBand {
  double hz = 0;             ///< centre
  double a = 0, b = 0;       ///< RMS, full scale = 1
  double mid = 0, side = 0;  ///< RMS of (A+B)/2 and (A-B)/2
  double correlation = 0;    ///< as they lie, -1 … 1
  double coherence = 0;      ///< 0 … 1, the time offset taken off
  double phase_deg =
      0;  ///< of B against A as they lie, -180 … 180; positive leads; means little below a coherence of 0.5
  double phase_uncertainty_deg = 0;  ///< k = 2, from the coherence
};

/// B against A, as they lie unless said.
struct PairResult {
  PairOptions options;
  double sample_rate_hz = 0;
  double seconds = 0;
  double a_rms = 0, b_rms = 0;           ///< full scale = 1
  std::optional<double> a_lufs, b_lufs;  ///< integrated, each as a mono signal
  double correlation = 0;                ///< of all samples, -1 … 1
  double mono_sum_ratio = 0;  ///< RMS of (A+B)/2 over the root of the mean of both powers: 1 for equal, 0.71
                              ///< for unrelated signals
  std::optional<double> time_offset_samples;  ///< of B after A; none when they have nothing in common
  double drift_ppm = 0;
  int polarity = 1;         ///< once the offset is taken off
  std::vector<Slip> slips;  ///< frames lost or inserted: offset, phase and coherence are those of one piece
  double piece_from_s = 0, piece_to_s = 0;  ///< of A
  double hop_s = 0;
  std::vector<double> a_over_time, b_over_time, correlation_over_time;  ///< RMS, RMS, -1 … 1 of each hop
  std::vector<double> a_momentary_lufs, b_momentary_lufs;
  std::vector<PairBand> bands;
  /// k = 2, by leaving out one sixteenth after the other; none of less than 1.6 s.
  std::optional<double> level_uncertainty_db, loudness_uncertainty_lu, correlation_uncertainty,
      mono_sum_uncertainty_db;
  std::optional<double> time_uncertainty_samples;  ///< k = 2, as align()
};

/// @param a, b  of the same rate; may be the same capture. Read in blocks.
/// @throws Error bad_input for 0 frames, silence in either, NaN or infinity; bad_argument for
/// different rates, channels that are not there.
/// @accuracy  level 1e-6 dB, correlation 1e-9; offset as align(); phase 0.5° where the coherence is above
/// 0.99 (pair_test.cpp)
[[nodiscard]] WAVICON_EXPORT PairResult measure_pair(const JudgedCapture& a, const JudgedCapture& b,
                                                     const PairOptions& options = {});

/// Readings, curves and findings. @param a_name, b_name  what the two are called in it.
[[nodiscard]] WAVICON_EXPORT Sheet pair_sheet(const PairResult& result, const CaptureInfo& capture,
                                              const std::string& a_name, const std::string& b_name);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& pair_readings();

}  // namespace wavicon
