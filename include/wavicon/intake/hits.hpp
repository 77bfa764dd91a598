// SPDX-License-Identifier: MIT
#pragma once
// A row of hits (a drum track, clicks, bursts) found in a capture of it hit by hit: each has a delay of its
// own.

#include <cstdint>
#include <optional>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon {

/// Where a sound begins suddenly, and where it has faded or the next one begins.
struct Hit {
  std::int64_t first_frame = 0;
  std::int64_t end_frame = 0;
};

/// Every sudden beginning of a channel: 4 ms that stand 6 dB over the 20 ms before them, and less than 30 dB
/// under the loudest; 50 ms apart at least.
///
/// @throws Error bad_argument for a channel that is not there.
[[nodiscard]] WAVICON_EXPORT std::vector<Hit> find_hits(AudioSource& source, int channel = 0);

/// Whether nothing but hits sounds: three at least, and each has most of its power in its first 120 ms and
/// fades before the next one.
[[nodiscard]] WAVICON_EXPORT bool is_row_of_hits(AudioSource& source, int channel = 0);

struct HitDelay {
  std::int64_t first_frame = 0;   ///< of the reference
  double delay_frames = 0;        ///< by which it comes later in the capture
  double uncertainty_frames = 0;  ///< k = 2
  double match = 0;               ///< correlation with what lies there, 0 … 1
};

struct HitRow {
  std::vector<HitDelay> hits;      ///< those that were found, in order of time
  int looked = 0;                  ///< hits of the reference that fall into the capture's time
  double gain = 1;                 ///< amplitude of the capture over the reference's, negative when inverted
  std::vector<double> candidates;  ///< other delays at which the row fits as well, the nearest to 0 first
};

/// Finds each hit of the reference in the capture by itself.
///
/// The onsets of both are correlated; at each of the best eight places of the row, every hit is searched for
/// within 30 ms by its whitened waveform, and counts when it matches. The place wins at which most hits are
/// found and fewest lie alone, on either side. Each delay is then refined as a segment's is (align()).
///
/// @param options  channels; least_match is asked of every hit; doubtful: also the best that there is. The
/// rest is not used.
/// @return none for fewer than three hits, or when six of ten are not found.
/// @throws Error as align().
/// @accuracy  exact copies 1e-6 frames, whatever each hit's own delay; 0.05 frames with noise 50 dB below
/// (hits_test.cpp).
[[nodiscard]] WAVICON_EXPORT std::optional<HitRow> align_hits(AudioSource& reference, AudioSource& capture,
                                                              const AlignOptions& options = {});

/// What the delays of a row of hits do over time.
enum class HitCourse { steady, drifts, jumps, jitters };

/// A row of hits, each with a latency of its own.
struct HitLatencies {
  HitCourse course = HitCourse::steady;
  std::vector<HitDelay> hits;        ///< that were found
  int looked = 0;                    ///< hits of A that fall into B's time
  std::vector<std::size_t> jumps;    ///< hits before which the latency jumps
  std::vector<double> jump_samples;  ///< by so much
  std::vector<double> off_samples;   ///< of each hit: from their mean, their line, or the mean between jumps
  double drift_ppm = 0;              ///< of hits that drift
  double at_start_frames = 0;        ///< then: their line at the reference's frame 0
  double at_start_uncertainty_frames = 0;  ///< k = 2
  std::size_t worst = 0;                   ///< hit that lies farthest off
};

/// Course, jumps and deviations of delays that were found: a line where it leaves less than half the spread
/// and its slope stands out of what it leaves (Student's t, one false claim in 10 000); jumps where the means
/// on either side do, and leave less; steady where the spread is no more than three times what the delays'
/// own uncertainty makes, or 0.02 samples.
[[nodiscard]] WAVICON_EXPORT HitLatencies judge_hits(std::vector<HitDelay> hits, int looked);

}  // namespace wavicon
