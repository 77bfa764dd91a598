// SPDX-License-Identifier: MIT
#pragma once
// The averaged spectrum of a capture: lines with their frequencies, levels and likely causes; bands.
// Definitions: docs/spectrum.md.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct SpectrumOptions {
  double from_s = 0;
  std::optional<double> to_s;   ///< none: to the end
  double resolution_hz = 10;    ///< distance at which two lines come apart, 0.1 … 5000
  double overlap = 0.75;        ///< of neighbouring windows, 0 … 0.95
  std::optional<int> averages;  ///< at most so many windows, from the start; none: all
  bool peak_hold = false;       ///< also the highest value of each bin
  bool density = false;         ///< per root of a hertz instead of as amplitude
  bool remove_dc = false;       ///< leave what lies within a line's width of 0 Hz out of the curve
  int bands_per_octave = 0;     ///< 0: no bands; 1, 3, 6, 12 or 24
  std::int64_t period_frames =
      0;  ///< the stretch repeats every so many frames: bands of whole periods, the first left out
  int most_peaks = 12;    ///< 0 … 100
  bool mid_side = false;  ///< of two channels: mid (half the sum) and side (half the difference)
  std::optional<double> full_scale_vrms;  ///< volts RMS of a full-scale sine: lines and bands in dBu as well
  std::optional<double> tone_hz;          ///< whose harmonics lines are named after; none: the strongest line
};

/// A line of the spectrum.
struct SpectrumPeak {
  double hz = 0;
  double peak = 0;  ///< amplitude, full scale = 1, what lies around it taken off
  std::string
      guess;  ///< "tone", "harmonic 3", "mains 50 Hz, line 2", "fold-back of order 7", "carrier", "line"
  double uncertainty_db = 0;  ///< k = 2, from the noise beside it
};

struct SpectrumBand {
  double centre_hz = 0;
  double rms = 0;        ///< full scale = 1
  double spread_db = 0;  ///< standard deviation of this level, as noise has it or as the periods differ
  std::optional<double> uncertainty_db;  ///< k = 2, from the spread; none of one period
};

struct ChannelSpectrum {
  bool silent = false;
  double dc = 0;  ///< full scale = 1
  bool constant =
      false;             ///< that is a constant, not noise or rumble: it stands 15 dB out of what is above it
  bool wobbles = false;  ///< it stands out as a constant does, and moves from window to window
  double dc_uncertainty_db = 0;  ///< k = 2, from the noise beside it, or of it
  double below_20_uncertainty_db = 0;
  double below_20_rms = 0;          ///< from a line's width beside 0 Hz to 20 Hz: rumble, not DC
  std::vector<SpectrumPeak> peaks;  ///< strongest first
  std::vector<SpectrumBand> bands;
  std::vector<double> hz;     ///< of the curves: at most some 3000 points, highest value in each
  std::vector<double> level;  ///< amplitude of a sine, or RMS per root of a hertz
  std::vector<double> held;   ///< the same of the highest values; empty without peak_hold
};

struct SpectrumResult {
  SpectrumOptions options;
  double sample_rate_hz = 0;
  std::int64_t frames = 0;
  double window_s = 0;
  double bin_hz = 0;
  std::int64_t window_count = 0;
  std::int64_t period_count = 0;          ///< that the bands were read from; 0: from the windows
  std::vector<ChannelSpectrum> channels;  ///< or mid and side
};

/// Welch's method with a Kaiser window (β = 20).
///
/// @param capture  read in blocks; memory does not grow with its length.
/// @throws Error bad_argument for options out of range, mid and side of other than two channels; bad_input
/// for a NaN or infinite sample, 0 frames
/// @accuracy  lines 0.01 dB and a hundredth of the resolution when they stand 40 dB out (spectrum_test.cpp)
///            bands of periodic noise 0.003 dB with noise 40 dB below
[[nodiscard]] WAVICON_EXPORT SpectrumResult measure_spectrum(const JudgedCapture& capture,
                                                             const SpectrumOptions& options = {});

[[nodiscard]] WAVICON_EXPORT Sheet spectrum_sheet(const SpectrumResult& result, const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& spectrum_readings();

}  // namespace wavicon
