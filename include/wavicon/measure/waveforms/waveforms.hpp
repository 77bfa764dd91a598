// SPDX-License-Identifier: MIT
#pragma once
// In over out: a few periods of tones as they went in and as they came back, on the sample grid, and what
// changed. Definitions: docs/waveforms.md.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

/// One tone in one channel.
struct ToneWaveform {
  double frequency_hz = 0;
  double in_dbfs = 0;             ///< of A
  std::optional<double> gain_db;  ///< B over A; none when the tone does not come through
  double delay_samples = 0;       ///< beside the common delay, within half a period
  std::optional<double> thd_db;   ///< of B
  double rest_db = 0;             ///< what neither the tone nor a harmonic explains, over A's tone, RMS
  std::optional<double>
      foreign_hz;  ///< strongest line that belongs to neither, 20 dB over what lies around it
  double foreign_dbfs = 0;
  /// The rate of another converter whose image of the tone that line is, k·rate ± frequency; none when no
  /// usual rate explains it, or several do.
  std::optional<double> image_of_hz;
  int image_order = 0;  ///< k, below 0 for k·rate - frequency
  /// Share of the rest's power that comes again with every period of the tone; none where it is chance.
  std::optional<double> repeating_share;
  std::optional<double> step;  ///< of quantisation, full scale = 1, where the samples lie on steps
  // k = 2.
  double gain_uncertainty_db = 0, delay_uncertainty_samples = 0, thd_uncertainty_db = 0,
         rest_uncertainty_db = 0, foreign_uncertainty_hz = 0, foreign_uncertainty_db = 0;
  std::vector<double> time_s;  ///< of the samples that are shown, from a rising zero crossing of A
  std::vector<double> in, out;
};

/// A hold's sin(x)/x over the tones of a channel.
struct Droop {
  double rate_hz = 0;   ///< that explains it
  double most_db = 0;   ///< at the highest tone
  double error_db = 0;  ///< RMS of what it leaves
};

struct WaveformsResult {
  double sample_rate_hz = 0;
  double common_delay_samples = 0;  ///< of the whole, with its fraction: what the tones' delays are beside
  std::vector<std::optional<Droop>> droops;  ///< of each channel
  std::vector<std::vector<ToneWaveform>> channels;
};

/// The loudest step of each frequency of every staircase, and every tone, of the stimulus (or of `part`
/// alone); periods from the middle of each.
///
/// @throws Error bad_argument when there is none; bad_input for NaN or infinity or what is cut off.
[[nodiscard]] WAVICON_EXPORT WaveformsResult measure_waveforms(const JudgedCapture& a, const JudgedCapture& b,
                                                               const std::string& part = "");

/// Tones of one channel, three and more, whose gains fall as sin(πf/r)/(πf/r) of a usual rate r; none when
/// one gain explains them, nothing does to 0.03 dB, or two rates do.
[[nodiscard]] WAVICON_EXPORT std::optional<Droop> find_droop(const std::vector<ToneWaveform>& tones);

/// Readings (`frequency_hz` in the conditions), the curves "in 997 Hz", "out 997 Hz" …, and findings in
/// words.
[[nodiscard]] WAVICON_EXPORT Sheet waveforms_sheet(const WaveformsResult& result, const CaptureInfo& a,
                                                   const CaptureInfo& b);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& waveforms_readings();

}  // namespace wavicon
