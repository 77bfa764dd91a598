// SPDX-License-Identifier: MIT
#pragma once
// What noise there is: in a band, weighted, under a tone or in silence, with its hum. Definitions:
// docs/noise.md.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/measure/common/rms_reference.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct NoiseOptions {
  double from_s = 0;
  std::optional<double> to_s;  ///< none: to the end
  double band_from_hz = 20;
  double band_to_hz = 20000;                             ///< cut to half the rate
  std::vector<std::pair<double, double>> more_bands_hz;  ///< read beside it, unweighted; from, to
  std::optional<double> tone_hz;  ///< tone to be removed with its harmonics, found within 3 %; none: the
                                  ///< strongest, if one stands 40 dB out of what lies around it
  std::optional<double> played_tone_hz;   ///< the same of a tone that was played, when it stands out
  bool keep_tone = false;                 ///< remove nothing
  double reference_dbfs = 0;              ///< peak of the sine that a dynamic range refers to
  std::optional<double> full_scale_vrms;  ///< what a full-scale sine is in volts RMS
  RmsReference rms_reference = RmsReference::square;
};

/// Lines at multiples of the mains frequency.
struct MainsLine {
  int order = 1;
  double hz = 0;
  double peak = 0;            ///< amplitude, full scale = 1
  double around = 0;          ///< what noise reads beside it
  double uncertainty_db = 0;  ///< of the amplitude, k = 2
};

/// A single line that is neither tone nor mains.
struct SpurLine {
  double hz = 0;
  double peak = 0;
  double uncertainty_db = 0;  ///< k = 2
};

/// Noise in one more band.
struct BandNoise {
  double from_hz = 0, to_hz = 0;
  double rms = 0;
  double uncertainty_db = 0;  ///< k = 2
};

/// Full scale = 1, RMS.
struct ChannelNoise {
  bool silent = false;
  double noise_rms = 0;      ///< in the band
  double noise_a_rms = 0;    ///< A-weighted, in the band
  double noise_468_rms = 0;  ///< ITU-R 468, in the band
  double band_rms = 0;       ///< in the band, harmonics included
  std::vector<BandNoise> more_bands;
  double whole_rms = 0;  ///< from 0 to half the rate but for DC and the tone, harmonics included
  // Of these levels, k = 2: what other stretches of the same noise would read.
  double noise_uncertainty_db = 0, noise_a_uncertainty_db = 0, noise_468_uncertainty_db = 0,
         band_uncertainty_db = 0, whole_uncertainty_db = 0;
  std::optional<double> tone_hz;  ///< that was removed
  double tone_peak = 0;
  double tone_uncertainty_db = 0;   ///< k = 2
  std::optional<double> mains_hz;   ///< base frequency, when at least one line stands out
  double mains_uncertainty_hz = 0;  ///< k = 2
  std::vector<MainsLine> mains;     ///< lines that stand 15 dB out
  double mains_bound = 0;           ///< amplitude under which a line would not have been seen
  std::vector<SpurLine> spurs;      ///< strongest first, at most 10
  std::vector<double> density_hz;   ///< spectrum for drawing, in bands of a 24th of an octave
  std::vector<double> density;      ///< RMS per root of a hertz
  std::vector<double> over_time;    ///< noise in the band, one for each window
};

struct NoiseResult {
  NoiseOptions options;
  SampleFormat format = SampleFormat::float64;  ///< how the capture was stored: decides the floor
  double sample_rate_hz = 0;
  std::int64_t frames = 0;
  double band_to_hz = 0;  ///< that was really used
  double window_s = 0;
  double hop_s = 0;
  double spread_db = 0;  ///< standard deviation of noise_rms in dB, were the noise white in the band
  double floor_rms = 0;  ///< what rounding to the format reads in the band; 0 for floats
  double floor_a_rms = 0, floor_468_rms = 0;
  std::vector<ChannelNoise> channels;
};

/// Welch's method: Kaiser window (β = 20) of 2^14 frames at 48 kHz (0.34 s at any rate), 75 % overlap; sums
/// of the density with parts of bins at the edges; weights on the density, not on the signal. Tone and
/// harmonics are cut out as lobes and filled with what lies beside them. Mains: comb of highest power near 50
/// and 60 Hz in up to half a minute brought down to 4 kHz.
///
/// @param capture  read in blocks; memory grows by a few numbers a second.
/// @throws Error bad_input for a NaN or infinite sample, a stretch shorter than one window, options.tone_hz
/// where no tone stands 15 dB out of the noise; bad_argument for options out of range
/// @accuracy  docs/noise.md, proved by noise_test.cpp
[[nodiscard]] WAVICON_EXPORT NoiseResult measure_noise(const JudgedCapture& capture,
                                                       const NoiseOptions& options = {});

/// Readings, density and noise over time as curves, findings.
[[nodiscard]] WAVICON_EXPORT Sheet noise_sheet(const NoiseResult& result, const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& noise_readings();

}  // namespace wavicon
