// SPDX-License-Identifier: MIT
#pragma once
// What folds back: every order of a sweep followed past half the rate, by its phase. Definitions:
// docs/aliasing.md.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

struct AliasingOptions {
  int highest_order = 40;          ///< 2 … 120
  double band_from_hz = 20;        ///< of the folded products' own frequencies
  double band_to_hz = 20000;       ///< cut to half the rate
  double full_scale_spl_db = 100;  ///< sound level that a full-scale sine is assumed to play at
};

/// Levels while the sweep passes one frequency; amplitudes are peak values, full scale = 1.
struct AliasingFrame {
  double tone_hz = 0;
  double fundamental = 0;
  std::vector<double> amplitude;  ///< of orders 0 … highest
  std::vector<bool> valid;        ///< false where an order cannot be told from another one
  std::vector<bool> bound;        ///< the amplitude is only an upper bound; empty: none is
  std::vector<double> sigma;  ///< RMS error that the residual or the order's own path shows; empty for steps
  std::vector<double> uncertainty;  ///< of the amplitude, k = 2
};

/// The highest place of one folded order, or of their sum.
struct FoldedOrder {
  int order = 0;         ///< 0 for the sum
  double hz = 0;         ///< its own frequency there
  double at_hz = 0;      ///< the sweep's
  double amplitude = 0;  ///< peak value, full scale = 1
  double ratio = 0;      ///< over the fundamental there
  double from_hz = 0;    ///< of the sweep: range in which it stands out; of steps: 10 dB over the floor
  double to_hz = 0;
  bool bound = false;         ///< it does not stand out of what is left or of its own scatter: an upper bound
  double uncertainty_db = 0;  ///< k = 2; 0 where it is not known
  double surely = 0;          ///< ratio less twice its error: what is ranked
};

struct ChannelAliasing {
  bool measured = false;              ///< false for a channel in which the sweep is not found
  double delay_samples = 0;           ///< of the sweep against the marks
  double fundamental = 0;             ///< highest, full scale = 1
  std::vector<AliasingFrame> frames;  ///< by the sweep's time
  std::vector<AliasingFrame>
      low;  ///< below them, orders up to 10 alone, from frames of seven periods: nothing folds there
  std::vector<FoldedOrder> folded;  ///< strongest first, over the fundamental
  FoldedOrder total;                ///< where the sum of all folded orders is highest over the fundamental
  FoldedOrder harmonic;             ///< the highest order that did not fold
  double residual_ratio = 0;        ///< middle value of what no order explains, over the fundamental
  double gone_from_hz = 0,
         gone_to_hz = 0;   ///< of the sweep: there the fundamental is 40 dB below its highest
  FoldedOrder while_gone;  ///< the loudest order there, by amplitude; order 0: none
};

struct AliasingResult {
  AliasingOptions options;
  double sample_rate_hz = 0;
  double from_hz = 0;  ///< of the sweep, as far as orders can be told apart
  double to_hz = 0;
  double band_to_hz = 0;
  double frame_s = 0;  ///< of a frame, or of a step
  bool steps = false;  ///< from a staircase of tones: a frame is a step
  std::vector<ChannelAliasing> channels;
  double floor_ratio = 0;  ///< highest folded product that the same computation reads on the clean sweep in
                           ///< the capture's format
  double floor_sum_ratio = 0;  ///< the same of the sum
};

/// Follows the orders of the sweep `part` of the stimulus where the capture holds it.
///
/// Frames of 20 ms, hop a quarter: weighted least squares (Kaiser, β = 20) over DC and all orders at once,
/// each with an amplitude that may change linearly within the frame; the normal matrix comes from sums over
/// the phase alone. Orders whose variance is inflated (they cross another one) are left out. An order is
/// named where it stands four times over the error that the residual around it makes, and over that by which
/// its complex amplitude strays from its neighbours' path, in two frames at least; else its amplitude is a
/// bound. Nothing is ranked where the fundamental is gone. The sweep is lined up by the phase of its
/// fundamental first.
///
/// @param part  index of a sweep in the recipe of the stimulus.
/// @throws Error bad_argument for a part that is no sweep, or options out of range; bad_input when the
/// capture holds less than half of the sweep
/// @accuracy  worst product 0.05 dB, its order exact; floor below -140 dBc in 24 bits (aliasing_test.cpp)
[[nodiscard]] WAVICON_EXPORT AliasingResult measure_aliasing(const JudgedCapture& capture, std::size_t part,
                                                             const AliasingOptions& options = {});

/// The same from the tones of the staircase `part`, orders up to 100: each step is measured as
/// measure_harmonics() does, folded orders where folding puts them. Orders that fall on one another are left
/// out: frequencies that share no factor with the rate (4999 Hz at 48 kHz) keep them apart. Finds what a
/// sweep cannot (there are no crossings), but only at its frequencies.
///
/// @throws Error as measure_aliasing(), and as measure_harmonics() for a step.
/// @accuracy  0.001 dB; floor below -170 dBc in 24 bits from steps of a second (aliasing_steps_test.cpp)
[[nodiscard]] WAVICON_EXPORT AliasingResult measure_aliasing_steps(const JudgedCapture& capture,
                                                                   std::size_t part,
                                                                   const AliasingOptions& options = {});

/// The first sheet from which on all keep their worst product below a level, with its uncertainty, and why
/// the one before does not: "oversampling=8 is enough for -80 dBc (-126.3 dBc, order 19 at 9.9 kHz);
/// oversampling=4 is not (-56.4 dBc, order 9 at 20.6 kHz)". Bounds above the level cannot tell. Empty without
/// a reading.
[[nodiscard]] WAVICON_EXPORT std::string aliasing_answer(const std::vector<Sheet>& sheets, double enough_dbc);

/// Readings, curves over the sweep's frequency, findings.
[[nodiscard]] WAVICON_EXPORT Sheet aliasing_sheet(const AliasingResult& result, const CaptureInfo& capture);

/// Whether the worst product of every channel that was measured is a value, not a bound.
[[nodiscard]] WAVICON_EXPORT bool tells_worst(const Sheet& sheet);

/// Puts the worst product and the sum of all in place of a sweep's bounds, channel by channel, where the
/// stepped tones of the same capture give values or lower bounds, and says so.
///
/// @param steps  what aliasing_sheet() made of them. @param part  their name.
WAVICON_EXPORT void tell_by_steps(Sheet& sweep, const Sheet& steps, const std::string& part);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& aliasing_readings();

}  // namespace wavicon
