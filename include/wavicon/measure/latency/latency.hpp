// SPDX-License-Identifier: MIT
#pragma once
// How late is it, and which offset do I enter in the DAW? Definitions: docs/latency.md.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/hits.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

struct LatencyOptions {
  int a_channel = 0;
  int b_channel = 0;
  std::optional<double> reported_samples;  ///< what the driver or the plugin says
  bool each_hit = false;                   ///< every sudden beginning of A by itself, whatever else sounds
};

/// B against A. Positive when B comes after A.
struct LatencyResult {
  LatencyOptions options;
  double sample_rate_hz = 0;
  bool by_marks = false;       ///< from the marks of a stimulus, else from any programme
  double latency_samples = 0;  ///< at the first mark, or at A's first frame
  double spread_samples = 0;   ///< RMS by which single marks or segments deviate
  int repeats = 0;             ///< marks that were compared; 0 for programme
  int polarity = 1;
  double drift_ppm = 0;
  std::optional<double> drift_uncertainty_ppm;  ///< k = 2
  double confidence = 0;     ///< of a programme: as Alignment's; of marks: their least match, 0 … 1
  bool by_residual = false;  ///< by what is left of steady tones, not by the correlation
  double match = 0;          ///< of a hit: its correlation with what lies there, 0 … 1; 0: no hit
  std::optional<double> uncertainty_samples;  ///< of the latency, k = 2; none by marks
  std::optional<HitLatencies> row;            ///< A is a row of hits: the latency is their mean, of those
                                              ///< before the first jump; their line's at A's first frame
  double drift_bound_ppm = 0;                 ///< where no drift is claimed: what it can be at most, k = 2
  std::vector<double> candidates;             ///< other latencies that fit nearly as well
  std::vector<Slip> slips;                    ///< frames lost or inserted: the latency is that of one piece
  std::vector<double> piece_samples;          ///< latency of each piece before, between and behind them
  double piece_from_s = 0, piece_to_s = 0;    ///< of A: the piece whose latency is given
  std::optional<double>
      earlier_samples;  ///< a weaker arrival before the one that was taken: by so many samples
  double earlier_db = 0;
  // A and B on the sample grid around a steep place of A, for drawing.
  std::vector<double> shown_samples;                  ///< frames of A from that place on
  std::vector<double> shown_a, shown_b, shown_moved;  ///< full scale = 1; B at A's level
};

/// From the marks of the stimulus that A is or carries, found in both; of a row of hits from each of them
/// (align_hits()); else from whatever both hold (align()).
///
/// @param a, b  where both hold one stimulus with marks, these are used.
/// @throws Error bad_input for 0 frames, silence, too little in common (with the figure); bad_argument for
/// different rates or channels that are not there.
/// @accuracy  0.01 sample clean, whatever level and polarity; 0.05 at 0 dB signal to noise (latency_test.cpp)
[[nodiscard]] WAVICON_EXPORT LatencyResult measure_latency(const JudgedCapture& a, const JudgedCapture& b,
                                                           const LatencyOptions& options = {});

/// Readings `latency_samples`, `latency_ms`, `spread_samples`, `polarity`, and with a reported latency
/// `reported_samples` and `offset_samples`, with a finding that says in words which way to shift.
[[nodiscard]] WAVICON_EXPORT Sheet latency_sheet(const LatencyResult& result, const CaptureInfo& a,
                                                 const CaptureInfo& b);

/// What a row of latencies does over the block sizes at which they were taken: "constant: 261.40 samples",
/// "follows the block size: 2.00 × block + 51.40 samples", "varies by 12.3 samples".
///
/// @param block_frames  one for each latency, or empty.
[[nodiscard]] WAVICON_EXPORT std::string latency_verdict(const std::vector<double>& latency_samples,
                                                         const std::vector<double>& block_frames);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& latency_readings();

}  // namespace wavicon
