// SPDX-License-Identifier: MIT
#pragma once
// A recording split at its silences, its takes matched in loudness and compared. Definitions: docs/takes.md.

#include <optional>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct TakesOptions {
  std::optional<double>
      threshold_dbfs;  ///< level of 10 ms under which it is a gap; none: found from the recording
  std::optional<double> least_gap_s;  ///< shorter silences belong to a take; none: found from the recording
  bool by_rms = false;                ///< match RMS instead of loudness
  std::optional<double> above_hz;     ///< from where on losses are told; none: found
};

/// What a take lacks at the top against the first one, hiss taken off. Uncertainties k = 2.
struct TakeLoss {
  double above_hz = 0;
  double loss_db = 0;  ///< mean of the bands above, relative to those below; below 0
  double loss_uncertainty_db = 0;
  bool bound = false;  ///< it lacks so much and more: above, only the first one stands out of its hiss
  std::optional<double> corner_hz;  ///< 3 dB down, of 1/(1 + (f/corner)^2n); none where that does not fit
  double corner_uncertainty_hz = 0;
  double slope_db_per_octave = 0;  ///< 6.02·n, without sign
  double slope_uncertainty_db = 0;
  int poles = 0;  ///< 1, 2 or 4, where that explains it plainly better than the others; else 0
};

/// One take. Levels: full scale = 1, as recorded.
struct RecordedTake {
  double start_s = 0, end_s = 0;
  double rms = 0;
  std::optional<double> lufs;     ///< none for too little sound: then its RMS is matched
  double gain_db = 0;             ///< that brings it to the first take
  std::optional<double> gap_rms;  ///< noise in the gap after it, DC taken off; none without a gap of 0.2 s
  std::vector<double> band_hz;    ///< third octaves
  std::vector<double> band_rms;   ///< matched to the first take
  std::vector<double> band_noise_rms;  ///< of the gap after it, matched likewise; empty without one
  std::vector<double>
      band_deviation;  ///< of the power without the noise, a share of it; one standard deviation
  std::optional<double> noise_from_hz;  ///< from here up it holds nothing but noise
  std::optional<TakeLoss> loss;         ///< none when nothing is missing, or it cannot be told
  // k = 2; none of what moves.
  std::optional<double> rms_uncertainty_db, loudness_uncertainty_lu, gap_uncertainty_db;
};

struct TakesResult {
  TakesOptions options;
  double sample_rate_hz = 0;
  double threshold_dbfs = 0;
  double least_gap_s = 0;
  double look_s = 0;  ///< of a level: edges are no surer
  bool threshold_found = false, gap_found = false;
  std::vector<RecordedTake> takes;
};

/// Splits: levels of 10 ms over all channels fall into two heaps, gaps and sound; the threshold parts them
/// best (Otsu's criterion on levels in dB). The least gap lies in the widest step between the lengths of all
/// silences, from 0.2 to 3 s, and is 0.6 s where they are all alike. Takes shorter than 0.3 s are left out.
///
/// @throws Error bad_input for 0 frames, silence, or nothing that stands out of it; bad_argument for options
/// out of range.
/// @accuracy  edges within 20 ms, gains 0.05 dB, gap noise 0.1 dB (takes_test.cpp)
[[nodiscard]] WAVICON_EXPORT TakesResult measure_takes(const JudgedCapture& recording,
                                                       const TakesOptions& options = {});

/// Readings with `take` in their conditions, curves "take 1", … (third octaves, matched), findings.
[[nodiscard]] WAVICON_EXPORT Sheet takes_sheet(const TakesResult& result, const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& takes_readings();

}  // namespace wavicon
