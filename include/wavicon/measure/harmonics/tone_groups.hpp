// SPDX-License-Identifier: MIT
#pragma once
// Several tones at once: the level of each, what they make of each other, and all else that is there.
// Definitions: docs/intermodulation.md.

#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct ToneGroupOptions {
  std::vector<double> tones_hz;     ///< 2 … 200, each found within 1 %
  std::vector<double> played_dbfs;  ///< the level at which each was played; none: not known
  int highest_order = 5;            ///< of the products of a pair, 2 … 9
  double band_from_hz = 20;         ///< of what is neither DC nor a tone
  double band_to_hz = 20000;        ///< cut to half the rate
  double from_s = 0;                ///< stretch of the capture to look at, in which the tones are steady
  std::optional<double> to_s;       ///< none: to the end
};

/// A tone that was played. Amplitudes are peak values, full scale = 1.
struct GroupTone {
  double hz = 0;
  double amplitude = 0;
  double uncertainty_db = 0;  ///< k = 2
};

/// What two tones make of each other: lies at |lower·f1 + upper·f2|, its image where that is above half the
/// rate.
struct ToneProduct {
  int lower = 0;
  int upper = 0;
  double hz = 0;
  double amplitude = 0;        ///< an upper bound (99 %) when `bound`
  double noise_amplitude = 0;  ///< what noise alone would read there
  double uncertainty_db = 0;   ///< of the amplitude, k = 2; 0 for a bound
  bool bound = false;          ///< within 10 dB of the noise
  bool folded = false;
  bool hidden = false;  ///< lies on a tone, on another product, on DC or half the rate
};

struct ChannelTones {
  enum class State { measured, silent, no_tones };
  State state = State::measured;
  std::vector<GroupTone> tones;  ///< by frequency
  std::vector<ToneProduct>
      products;             ///< of a pair: by order, then by frequency; empty for more than two tones
  bool modulation = false;  ///< how `second`, `third` were formed: sidebands of the upper tone over it, or
                            ///< differences over the sum of both
  double second = 0;        ///< ratio of the products of second order
  double third = 0;
  bool second_bound = false, third_bound = false;
  double second_uncertainty_db = 0, third_uncertainty_db = 0;  ///< k = 2
  double rest_uncertainty_db = 0, noise_uncertainty_db = 0;    ///< k = 2
  double rest_ratio = 0;  ///< everything in the band but DC and the tones, over the tones (RMS over RMS)
  double noise_rms = 0;   ///< the same without products, full scale = 1
  std::vector<double> spectrum_hz;         ///< for drawing
  std::vector<double> spectrum_amplitude;  ///< a sine of peak A reads A
  std::vector<double> missing_hz;          ///< tones that were played and do not stand out
};

struct ToneGroupResult {
  ToneGroupOptions options;
  SampleFormat format = SampleFormat::float64;  ///< how the capture was stored: decides the floor
  double audio_starts_s = 0;                    ///< where the stretch begins in its capture
  double sample_rate_hz = 0;
  double seconds = 0;
  double band_to_hz = 0;
  std::vector<ChannelTones> channels;
  std::vector<ChannelTones>
      floors;  ///< the same computation on clean tones as the capture's format holds them
};

/// Measures the tones and, of a pair, their products up to an order.
///
/// Kaiser window (β = 38): tones by the energy of their lobes, products as single lines at the exact sums and
/// differences. A pair whose lower tone is stronger by 6 dB or more and lies two octaves below is read by the
/// modulation method: second order (A(f2-f1) + A(f2+f1)) / A(f2), third order (A(f2-2·f1) + A(f2+2·f1)) /
/// A(f2). Any other pair by the difference-frequency method: A(f2-f1) / (A1+A2) and (A(2·f1-f2) + A(2·f2-f1))
/// / (A1+A2). Source: IEC 60268-3, 14.12 (to verify).
///
/// @param capture  the tones steady over all of it; neighbours at least 25 bins of 1/length apart.
/// @throws Error bad_input   0 frames, NaN, all channels silent or without the tones, too short for the tones
/// @throws Error bad_argument  options out of range
/// @accuracy  0.02 dB at -120 dBc in 24 bits (tone_groups_test.cpp)
[[nodiscard]] WAVICON_EXPORT ToneGroupResult measure_tone_group(const JudgedCapture& capture,
                                                                const ToneGroupOptions& options);

[[nodiscard]] WAVICON_EXPORT Sheet tone_group_sheet(const ToneGroupResult& result,
                                                    const CaptureInfo& capture);

/// "f2 - 2·f1" for lower = -2, upper = 1.
[[nodiscard]] WAVICON_EXPORT std::string product_name(const ToneProduct& product);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& intermodulation_readings();

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& multitone_readings();

}  // namespace wavicon
