// SPDX-License-Identifier: MIT
#pragma once
// At which level a unit starts to clip, from a staircase, a ramp, or a steady tone whose level a hand turns
// up. Definitions: docs/clipping.md.

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

struct ClippingOptions {
  double thd_percent = 1;       ///< figure that counts as clipping, 0.001 … 50
  double compression_db = 0.1;  ///< fall of the gain that counts as clipping, 0.01 … 6
  double alignment_dbfs = -20;  ///< level that headroom counts from
  double from_s = 0;            ///< of a steady tone: stretch of the capture
  std::optional<double> to_s;
};

/// One level, or one moment.
struct ClippingFrame {
  double time_s = 0;              ///< in the capture, middle
  std::optional<double> in_dbfs;  ///< of the stimulus; none for a tone turned by hand
  double out_dbfs = 0;
  std::optional<double> thd_ratio;  ///< none when nothing stands out of the noise
  double uncertainty_db = 0;        ///< of the level out, k = 2, from what no order explains
};

struct ClippingPoint {
  std::optional<double> in_dbfs;
  double out_dbfs = 0;
  double time_s = 0;
  bool by_gain = false;  ///< the gain fell first; else the THD rose
  double step_db = 0;    ///< between the two levels around it: how exactly it is known
  /// k = 2: half the step of a curve that turns within it, a tenth of it of a soft one, and the noise.
  double uncertainty_db = 0;
  double uncertainty_s = 0;
};

enum class ClippingShape { unknown, soft, hard };

struct ChannelClipping {
  bool measured = false;
  std::vector<ClippingFrame> frames;
  std::optional<double> gain_db;       ///< at low levels
  double gain_uncertainty_db = 0;      ///< k = 2
  std::optional<ClippingPoint> point;  ///< none: not reached
  ClippingShape shape = ClippingShape::unknown;
  double span_db = 0;       ///< of the level, between a tenth and three times the figure
  double ceiling_dbfs = 0;  ///< highest sample
};

struct ClippingResult {
  ClippingOptions options;
  std::string part;
  double sample_rate_hz = 0;
  double frequency_hz = 0;
  std::vector<ChannelClipping> channels;
};

/// From a staircase (its first frequency), or a multitone of one oscillator whose level rises: the level at
/// which THD (orders 2 … 10) passes the figure or the gain has fallen by so many dB from that of a
/// vanishing level (a line over the power of the lowest quarter), whichever comes first, interpolated between
/// the two levels around it.
///
/// @param part  index of it in the recipe of the stimulus.
/// @throws Error bad_argument for another kind of part or options out of range; bad_input for a capture that
/// does not hold it, NaN or infinity.
/// @accuracy  0.02 dB from a ramp, a tenth of the step from a staircase where the onset is soft
///            (clipping_test.cpp)
[[nodiscard]] WAVICON_EXPORT ClippingResult measure_clipping(const JudgedCapture& capture, std::size_t part,
                                                             const ClippingOptions& options = {});

/// From a tone whose level somebody turns up: the first moment from which THD stays above the figure for
/// 0.2 s. Errors likewise.
[[nodiscard]] WAVICON_EXPORT ClippingResult measure_clipping_by_hand(const JudgedCapture& capture,
                                                                     double tone_hz,
                                                                     const ClippingOptions& options = {});

[[nodiscard]] WAVICON_EXPORT Sheet clipping_sheet(const ClippingResult& result, const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& clipping_readings();

}  // namespace wavicon
