// SPDX-License-Identifier: MIT
#pragma once
// Levels over time and frequency. Definition: docs/spectrogram.md.

#include <optional>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

struct SpectrogramOptions {
  int channel = 0;  ///< from 0
  double from_s = 0;
  std::optional<double> to_s;  ///< none: to the end
  double resolution_hz = 40;  ///< distance at which two lines of the same level come apart; the window is 4.9
                              ///< of its inverse long
  double overlap = 0.75;  ///< of neighbouring windows, 0 … 0.95; windows are put closer where columns need it
  double low_hz = 20;
  double high_hz = 0;  ///< 0: half the rate
  bool log_frequency = true;
  int columns = 1000;  ///< at most
  int rows = 400;
};

/// A map "level" in dBFS (a steady sine reads its level), with readings of the highest place.
///
/// Kaiser window (β = 14, skirts below -105 dB). Every frame lies under a window; where several windows or
/// bins fall into one cell the highest is shown, so that nothing short or narrow is lost.
///
/// @param capture  read in blocks; memory grows with columns × rows alone.
/// @throws Error bad_argument for options out of range; bad_input for a NaN or infinite sample, or a stretch
/// without a frame.
/// @accuracy  a sine's level within 0.05 dB in its column's highest cell (spectrogram_test.cpp).
[[nodiscard]] WAVICON_EXPORT Sheet measure_spectrogram(const JudgedCapture& capture,
                                                       const SpectrogramOptions& options = {});

/// Adds to a spectrogram where the orders of a sweep run, and their reflections at half the rate: curves
/// "order 2" …, and the names of the stimulus's parts.
WAVICON_EXPORT void add_sweep_paths(Sheet& sheet, const Stimulus& stimulus, const Take& take,
                                    int highest_order);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& spectrogram_readings();

}  // namespace wavicon
