// SPDX-License-Identifier: MIT
#pragma once
// Are two recordings the same, and if not, what is left? Definitions: docs/null.md.

#include <cstdint>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// What is given is taken as it is, what is not given is found.
struct NullOptions {
  std::optional<double> delay_samples;  ///< of A's frame 0 in B
  std::optional<double> drift_ppm;      ///< of B's clock against A's, ±300
  std::optional<double> gain_db;        ///< of B over A
  std::optional<int> polarity;          ///< 1 or -1
  int response_taps =
      0;  ///< also match B's linear response by a filter of so many taps, up to 2048; 0: do not
  double band_from_hz = 0;           ///< of depth and verdict
  std::optional<double> band_to_hz;  ///< none: half the rate
  double from_s = 0;                 ///< stretch of A to compare
  std::optional<double> to_s;
  std::vector<std::vector<double>>
      filter;  ///< A goes through it first: taps for each channel, the middle one is time 0; empty: none
  bool resample =
      false;  ///< bring the one of the lower rate up to the other's; else different rates are refused
};

enum class NullVerdict { identical, rounding, noise, hum, linear, programme };
/// "identical", "rounding", …
[[nodiscard]] WAVICON_EXPORT std::string name_of(NullVerdict verdict);

/// One channel of A against one of B. Amplitudes: full scale = 1, at A's level.
struct ChannelNull {
  int a_channel = 0;
  int b_channel = 0;
  bool silent = false;  ///< A holds nothing here: there is no depth
  double gain = 1;      ///< of B over A, without sign
  int polarity = 1;
  double reference_rms = 0;    ///< within the band
  double residual_rms = 0;     ///< within the band
  double residual_peak = 0;    ///< of everything
  double residual_peak_s = 0;  ///< in A
  double depth = 0;            ///< residual over reference, RMS, within the band
  double depth_a = 0;          ///< the same A-weighted
  double depth_k = 0;          ///< and K-weighted, without gates
  double residual_k = 0;       ///< mean square of the K-weighted residual
  double floor = 0;            ///< depth that errors of alignment, interpolation and format alone would leave
  // k = 2: what other stretches of the same residual would read, by its noise.
  double depth_uncertainty_db = 0, depth_a_uncertainty_db = 0, depth_k_uncertainty_db = 0;
  double gain_uncertainty_db = 0;
  double coherent_share = 0;        ///< of the residual's power that is linear in A
  double coherent_uncertainty = 0;  ///< of it, k = 2
  double follows = 0;               ///< correlation of the levels of residual and programme over time, in dB
  double level_spread_db = 0;       ///< of the residual over time
  double line_share = 0;            ///< of the residual's power that lies in lines of 50 or 60 Hz
  double mains_hz = 0;
  NullVerdict verdict = NullVerdict::identical;
  std::string reason;
  std::vector<double> hz;  ///< of the spectra, in mean square per Hz
  std::int64_t windows = 0;  ///< that the densities are means of
  std::vector<double> reference_density;
  std::vector<double> residual_density;
  std::vector<double> third_octave_hz;
  std::vector<double> third_octave_depth;
  std::vector<double> response_hz;  ///< amplitude of B over A, the gain taken off, where they are coherent
  std::vector<double> response;
  std::vector<double> reference_over_time;  ///< RMS of each hop
  std::vector<double> residual_over_time;
  double worst_s = 0;  ///< hop whose residual is highest
};

struct NullResult {
  NullOptions options;
  double resampled_from_hz = 0;  ///< rate of the one that was resampled; 0: neither
  bool resampled_a = false;
  double sample_rate_hz = 0;
  Alignment alignment;
  bool found = false;                                               ///< the alignment was searched for
  double delay_uncertainty_samples = 0, drift_uncertainty_ppm = 0;  ///< k = 2; 0 where they were given
  bool equal =
      false;  ///< every sample of the common stretch is the same, bit for bit, at the given or found delay
  std::int64_t first_frame = 0;  ///< of A
  std::int64_t end_frame = 0;
  std::int64_t a_frames = 0, b_frames = 0;
  double hop_s = 0;
  double band_to_hz = 0;
  int used_bits_a = 0;  ///< bits that the samples need; 0 for floats
  int used_bits_b = 0;
  NullVerdict verdict = NullVerdict::identical;  ///< the worst of the channels; programme beside a slip
  std::vector<ChannelNull> channels;
};

/// Takes the residual and B as aligned, both planar and at A's level, stretch by stretch from first_frame on.
using NullSink = std::function<void(std::int64_t first_frame, std::span<const double> residual,
                                    std::span<const double> aligned)>;

/// Lines B up with A (align()), takes it from A, and says what is left.
///
/// Each channel of A against the same one of B, a mono file against each channel of the other. The gain is
/// Σxy/Σxx, which noise in B does not pull. A delay within 0.002 of a whole frame without drift is taken as
/// whole: then nothing is interpolated. What is left is judged, in this order: nothing; no more than the
/// rounding of either format; lines of the mains; more than half linear in A (an equaliser, a delay, a room);
/// following A's level (saturation, a gain that moves, another instrument); noise.
///
/// @param a, b  of the same rate, or to be resampled; read in blocks: memory does not grow with their length.
/// @param sink  called in order of time, when given.
/// @throws Error bad_input     0 frames, NaN or infinity, silence, too little in common (with the
/// figure)
/// @throws Error bad_argument  rates or channel counts that do not fit, options out of range
/// @accuracy  null_test.cpp: depth within 0.3 dB of what noise allows, delay 0.001 sample, gain 0.002 dB,
/// drift 0.01 ppm at noise 80 dB below
[[nodiscard]] WAVICON_EXPORT NullResult measure_null(const JudgedCapture& a, const JudgedCapture& b,
                                                     const NullOptions& options = {},
                                                     const NullSink& sink = {});

/// Readings, curves (spectra, levels over time, depth per third octave, response) and findings; the verdict
/// first.
[[nodiscard]] WAVICON_EXPORT Sheet null_sheet(const NullResult& result, const CaptureInfo& a,
                                              const CaptureInfo& b);

/// Of sheets of pairs: how many are alike but for noise, which two differ least and which most, in one
/// sentence.
[[nodiscard]] WAVICON_EXPORT std::string null_pairs_answer(const std::vector<Sheet>& sheets);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& null_readings();

}  // namespace wavicon
