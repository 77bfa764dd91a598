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
  std::vector<double> time_s;  ///< of the samples that are shown, from a rising zero crossing of A
  std::vector<double> in, out;
};

struct WaveformsResult {
  double sample_rate_hz = 0;
  std::vector<std::vector<ToneWaveform>> channels;
};

/// The loudest step of each frequency of every staircase, and every tone, of the stimulus (or of `part`
/// alone); periods from the middle of each.
///
/// @throws Error bad_argument when there is none; bad_input for NaN or infinity or what is cut off.
[[nodiscard]] WAVICON_EXPORT WaveformsResult measure_waveforms(const JudgedCapture& a, const JudgedCapture& b,
                                                               const std::string& part = "");

/// Readings (`frequency_hz` in the conditions), the curves "in 997 Hz", "out 997 Hz" …, and findings in
/// words.
[[nodiscard]] WAVICON_EXPORT Sheet waveforms_sheet(const WaveformsResult& result, const CaptureInfo& a,
                                                   const CaptureInfo& b);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& waveforms_readings();

}  // namespace wavicon
