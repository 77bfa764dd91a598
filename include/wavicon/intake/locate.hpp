// SPDX-License-Identifier: MIT
#pragma once
// Where a stimulus lies in a capture: found by its marks, to a fraction of a sample, however late, inverted
// or quiet it is.

#include <cstdint>
#include <optional>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

/// One mark as it was found in one channel.
struct FoundMark {
  double frame = 0;  ///< where its first sample lies, in frames of the capture
  double gain = 1;   ///< amplitude over the stimulus's; negative when inverted
  double match = 0;  ///< normalised correlation, 0 … 1
};

/// How far a mark's place and gain may be off, by what of it is not the mark (Cramér and Rao's bound for
/// white noise); a place is read to 0.001 frames.
struct MarkDeviation {
  double frames = 0;      ///< standard deviation
  double gain_share = 0;  ///< of the gain
};
[[nodiscard]] WAVICON_EXPORT MarkDeviation deviation_of(const FoundMark& mark, double sample_rate_hz);

/// One appearance of the stimulus.
struct Take {
  int channel = 0;                 ///< in which it was found best, from 0
  std::optional<FoundMark> start;  ///< none when the capture begins after it
  std::optional<FoundMark> end;    ///< none when the capture ends before it
  double first_frame = 0;          ///< where the stimulus's frame 0 lies (below 0 when cut off)
  double frames_per_frame = 1;     ///< capture frames per stimulus frame, drift included
  double rate_ratio =
      1;  ///< speed at which it was played: 1; 48/44.1 when a 44.1 kHz stimulus was played as 48 kHz
  double drift_ppm =
      0;  ///< of the capture's clock against the stimulus's, beyond rate_ratio; 0 with one mark only
  std::int64_t slipped_frames =
      0;  ///< frames by which the distance of the marks is off, when that is no drift: below 0 some were lost
  double gain_db = 0;
  int polarity = 1;
  std::vector<double> channel_gains;  ///< amplitude of a mark in each channel over the stimulus's, negative
                                      ///< when inverted; 0 where it was not found
};

/// How one capture of a stimulus lies to another, by the marks of both.
[[nodiscard]] WAVICON_EXPORT Alignment alignment_of(const Take& reference, const Take& capture);

/// Noise that repeats, where it lies in a capture.
struct RepeatingStretch {
  double from_s = 0;  ///< in the capture, fades left out
  double to_s = 0;
  std::int64_t period_frames = 0;
  double slip_frames = 0;  ///< by which the period in the capture's own frames differs from that whole number
};
/// Of a part of noise with a period; none for any other part, or when it holds less than two periods.
[[nodiscard]] WAVICON_EXPORT std::optional<RepeatingStretch> repeating_stretch(const Stimulus& stimulus,
                                                                               std::size_t part,
                                                                               const Take& take,
                                                                               double capture_rate_hz);

struct LocateOptions {
  double least_match = 0.5;     ///< correlation from which a mark counts as found
  double most_drift_ppm = 300;  ///< a larger difference of the marks' distance is a slip, not drift
};

/// Every appearance of a stimulus in a capture, in order of time; none when it is not there.
///
/// Matched filter for the chirps (no whitening) over every channel, normalised by the local level; then the
/// phase of the cross-spectrum for the fraction. Tries the proper rate first, then the ratios of the usual
/// rates.
///
/// @param capture   read in blocks: memory does not grow with its length.
/// @param stimulus  with marks. @throws Error bad_argument when it has none; bad_input for 0 frames, a value
/// that is no number.
/// @accuracy  0.01 sample clean; found under noise 20 dB below the marks, within 80 Hz to 8 kHz, saturated,
/// compressed, at -40 dB
///            (locate_test.cpp)
[[nodiscard]] WAVICON_EXPORT std::vector<Take> locate(AudioSource& capture, const Stimulus& stimulus,
                                                      const LocateOptions& options = {});
[[nodiscard]] WAVICON_EXPORT std::vector<Take> locate(const Audio& capture, const Stimulus& stimulus,
                                                      const LocateOptions& options = {});

}  // namespace wavicon
