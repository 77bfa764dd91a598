// SPDX-License-Identifier: MIT
#pragma once
// Harmonics of a steady tone: level of each order, THD, THD+N, SINAD and what noise remains.
// Definitions and accuracy: docs/harmonics.md.

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/measure/common/rms_reference.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct HarmonicsOptions {
  std::optional<double> tone_hz;  ///< fundamental, found within 3 %; none: the strongest tone
  int highest_order = 10;         ///< 2 … 100; THD counts H2 … this one
  double band_from_hz = 20;       ///< band of THD+N, SINAD and residual noise; 0 or above
  double band_to_hz = 20000;      ///< above band_from_hz; cut to half the rate
  double from_s = 0;              ///< stretch of the capture to look at
  std::optional<double> to_s;     ///< none: to the end
  RmsReference rms_reference = RmsReference::square;
};

/// Level of one order. Amplitudes are peak values, full scale = 1.
struct HarmonicOrder {
  int order = 2;
  double at_hz = 0;     ///< where it lies: order × fundamental, or its image when folded
  bool folded = false;  ///< order × fundamental lies above half the rate: not a harmonic but a folded product
  bool hidden =
      false;  ///< lies on another order, DC or half the rate, and cannot be told apart: no amplitude
  double amplitude = 0;        ///< noise power taken off; an upper bound (99 %) when `bound`
  double raw_amplitude = 0;    ///< as it stands in the spectrum, noise included
  double noise_amplitude = 0;  ///< what noise alone would read there (RMS of that reading)
  double uncertainty_db = 0;   ///< of the amplitude, k = 2, from the noise beside it; 0 for a bound
  bool bound = false;          ///< within 11.5 dB of the noise
  double phase_deg = 0;        ///< of A·sin(order·ωt + phase), time from a rising zero crossing of the
                               ///< fundamental; means nothing when bound or hidden
};

/// Everything about one channel.
struct ChannelHarmonics {
  enum class State { measured, silent, no_tone };
  enum class Method { spectral_lines, joint_fit };
  State state = State::measured;
  Method method = Method::spectral_lines;  ///< joint_fit below 25 periods
  std::int64_t first_frame = 0;            ///< of the steady stretch that was measured
  std::int64_t frames = 0;
  bool whole = true;               ///< the stretch is all there was to look at
  std::int64_t window_frames = 0;  ///< one window; several overlap by half and are averaged
  int window_count = 1;
  double fundamental_hz = 0;
  double fundamental_amplitude = 0;
  // k = 2, from the noise that was seen beside and between the lines.
  double fundamental_uncertainty_hz = 0, fundamental_uncertainty_db = 0, thd_uncertainty_db = 0,
         thd_n_uncertainty_db = 0, residual_uncertainty_db = 0;
  std::vector<HarmonicOrder> orders;  ///< order 2, 3, …
  double thd_ratio =
      0;  ///< root of the sum of squares of the orders below half the rate, over the fundamental
  bool thd_bound = false;
  bool has_thd = true;     ///< false when no order lies below half the rate
  double thd_n_ratio = 0;  ///< everything in the band but DC and the fundamental, over the fundamental (RMS)
  double residual_noise_rms = 0;    ///< the same without harmonics, full scale = 1
  double dc = 0;                    ///< full scale = 1
  double band_to_hz = 0;            ///< upper end that was really used
  std::vector<double> spectrum_hz;  ///< for drawing: at most ~2000 points, log spacing, highest level in each
  std::vector<double> spectrum_amplitude;  ///< a sine of peak A reads A
  std::vector<double> period_deg;          ///< 0 … 360 from a rising zero crossing of the fundamental
  std::vector<double> period;              ///< the samples there, at most 512 places; full scale = 1
};

/// A channel beside what the same computation reads on a clean tone held in the capture's format.
struct HarmonicsResult {
  HarmonicsOptions options;
  SampleFormat format = SampleFormat::float64;  ///< how the capture was stored: decides the floor
  double audio_starts_s = 0;  ///< where the stretch that was looked at begins in its capture
  double sample_rate_hz = 0;
  std::int64_t capture_frames = 0;
  std::vector<ChannelHarmonics> channels;
  std::vector<ChannelHarmonics> floors;  ///< one for each channel; meaningful where the channel was measured
  std::vector<double> peaks;             ///< highest magnitude of each channel, full scale = 1
  std::vector<std::int64_t>
      held_frames;  ///< frames in runs of two or more at the format's end codes: 0 for floats
};

/// Measures every channel by itself.
///
/// From 25 periods on: Kaiser window (β = 38) over the steady stretch, frequency by Newton's method on the
/// windowed spectrum, orders as single lines (window chosen by the noise) or, when the tone wanders, as
/// energy of their lobes. Below 25 periods: least squares over DC, every order below half the rate (300 at
/// most) and the frequency.
///
/// @param capture  any rate and channel count; its stretch, at least 3 periods of the tone, is held in
/// memory.
/// @throws Error bad_input   0 frames, NaN or infinite samples, all channels silent, no steady tone, fewer
/// than 3 periods
/// @throws Error bad_argument  options out of range, a stretch outside of the capture
/// @accuracy  measurements in docs/harmonics.md; proved by harmonics_test.cpp
[[nodiscard]] WAVICON_EXPORT HarmonicsResult measure_harmonics(const JudgedCapture& capture,
                                                               const HarmonicsOptions& options = {});

/// The readings of a result by their names, with conditions and floors, the spectra as curves, and what they
/// mean as findings.
[[nodiscard]] WAVICON_EXPORT Sheet harmonics_sheet(const HarmonicsResult& result, const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& harmonics_readings();

}  // namespace wavicon
