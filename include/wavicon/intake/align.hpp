// SPDX-License-Identifier: MIT
#pragma once
// Where any signal lies in a capture of it, without marks: delay to a fraction of a sample, polarity, gain
// and drift, from what both hold.

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/source.hpp"

namespace wavicon {

/// Frames that were lost (below 0) or inserted somewhere between two places of the reference: where it makes
/// no difference, in a pause, these are its ends; lost frames lie between them.
struct Slip {
  std::int64_t after_frame = 0;
  std::int64_t before_frame = 0;
  std::int64_t frames = 0;
};

/// How a capture lies to its reference: reference frame n is at capture frame delay_frames +
/// n·frames_per_frame.
struct Alignment {
  double delay_frames = 0;      ///< of the reference's frame 0; below 0 when the capture begins after it
  double frames_per_frame = 1;  ///< capture frames per reference frame
  double drift_ppm = 0;         ///< the same as a deviation from 1
  double gain = 1;              ///< amplitude of the capture over the reference's, negative when inverted
  double confidence = 0;        ///< height of the flattened correlation over what chance gives; 0: one hit
  int looked = 0;               ///< segments that were searched for by themselves
  int agreed = 0;               ///< of these, found where the place says
  bool by_hits = false;         ///< hits of a row that were found are the proof
  bool by_residual = false;     ///< what is left is the proof: steady tones, of which 40 dB are there
  /// Tones that a device gave other levels are the proof, each by itself: the gain says nothing. Only where
  /// the reference is taken apart (check_health()).
  bool by_parts = false;
  double match = 0;          ///< of a hit: correlation with what lies there, 0 … 1; 0: no hit, segments
  double agreement = 0;      ///< of a hit: mean correlation of its third octaves there, -1 … 1
  double spread_frames = 0;  ///< RMS by which single segments deviate from the line
  double uncertainty_frames = 0;     ///< of the delay in the middle of what both hold, k = 2
  double drift_uncertainty_ppm = 0;  ///< of a drift that is claimed, k = 2
  /// Of the gain, as a share of it, k = 2; none of fewer than four segments.
  std::optional<double> gain_uncertainty;
  double drift_bound_ppm = 0;    ///< where no drift is claimed: what it can be at most, k = 2; a hit has none
  std::int64_t first_frame = 0;  ///< of the reference: the stretch that the capture holds as well
  std::int64_t end_frame = 0;
  std::vector<Slip> slips;  ///< then the line lies by what is longest in one piece
  bool slips_untold =
      false;  ///< one of the pieces is not there as it should be: how much is missing cannot be told
  std::int64_t piece_first_frame = 0;  ///< of the reference: that piece; without slips all that both hold
  std::int64_t piece_end_frame = 0;
  std::vector<double> candidates;  ///< other delays that fit nearly as well: the signal repeats itself
};

struct AlignOptions {
  int reference_channel = 0;
  int capture_channel = 0;
  bool drift = true;  ///< look for a drift of the clocks
  double most_drift_ppm = 300;
  double least_match = 0.92;  ///< of a hit; others of its kind, and filtered ones, reach 0.9
  bool doubtful = false;      ///< also a place that chance may have made: to say how near it came
};

/// Finds the reference in the capture; none when they have too little in common.
///
/// What sounds for less than 0.6 s is a hit: found by the correlation of both at the full rate, whitened by
/// the root of their spectra and divided by the energy of what lies there; it has a delay and no drift.
///
/// Else both are brought down to about 12 kHz; an excerpt of the reference is correlated with the whole
/// capture, both with flat spectra, and the height of the peak is weighed against what chance gives there.
/// Segments of a third of a second, each searched for by itself, have to land in the same place (is_proven()
/// in coarse_search.cpp); or, for steady tones, the residual is the proof. Then segments of 2^14 frames over
/// the common stretch, each searched near where its neighbours lie and refined by Newton's method on the
/// phase of the cross-spectrum after warping by a windowed sinc, each third octave weighed by what both have
/// in common there over what they do not, and a robust line through their delays, each weighed by its own
/// variance, three times over. Where frames were lost or inserted, the longest piece alone makes the line. A
/// drift is claimed when it stands out of what the segments scatter (t test, one false claim in 10 000); else
/// it is 0 and its bound is told. The gain is Σxy/Σxx, which noise in the capture does not pull.
/// (docs/alignment.md)
///
/// As many threads work on it as are allowed (ThreadAllowance), with the same result; each source is read by
/// one at a time, and up to 16 MB of either channel are kept meanwhile.
///
/// @param reference, capture  of the same sample rate; read in blocks: memory does not grow with their
/// length.
/// @throws Error bad_argument for different rates or channels that are not there; bad_input for 0 frames.
/// @accuracy  1e-4 sample and 0.01 ppm on 10 s of programme with noise 60 dB below (align_test.cpp).
[[nodiscard]] WAVICON_EXPORT std::optional<Alignment> align(AudioSource& reference, AudioSource& capture,
                                                            const AlignOptions& options = {});

/// Delays of the reference's frame 0, in frames, that each piece between slips would give: the first is that
/// before the first slip.
[[nodiscard]] WAVICON_EXPORT std::vector<double> delays_of_pieces(const Alignment& alignment);

/// "300 frames were lost at 2.503 s, 12 frames were inserted between 2.503 and 2.611 s", of the reference; at
/// most three of them, and how many more.
[[nodiscard]] WAVICON_EXPORT std::string slips_text(const std::vector<Slip>& slips, double sample_rate_hz);

/// "at 2.503 s" or "between 2.503 and 2.611 s" of the reference.
[[nodiscard]] WAVICON_EXPORT std::string place_text(const Slip& slip, double sample_rate_hz);

/// Capture frames per reference frame, when the capture runs at another speed than the reference: one of the
/// ratios of the usual rates (44.1 kHz taken for 48 kHz: 44.1/48), or up to 1 % off (a tape), to 0.02 %; none
/// when none of them stands out.
///
/// @throws Error as align().
[[nodiscard]] WAVICON_EXPORT std::optional<double> speed_between(AudioSource& reference, AudioSource& capture,
                                                                 const AlignOptions& options = {});

/// The capture on the reference's frames: out[n] is the capture where reference frame first_frame + n lies.
/// The gain is left as it is.
WAVICON_EXPORT void read_aligned(AudioSource& capture, int channel, const Alignment& alignment,
                                 std::int64_t first_frame, const FractionalReader& reader,
                                 std::span<double> out);

}  // namespace wavicon
