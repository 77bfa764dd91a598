// SPDX-License-Identifier: MIT
#pragma once
// Sheets as pictures, drawn by gnuplot.

#include <array>
#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/picture.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

enum class PlotFormat { png, svg };

struct PlotOptions {
  PlotFormat format = PlotFormat::png;
  int width_px = 1280;
  int height_px = 800;
  bool dark = false;                             ///< light ink on dark paper
  std::optional<std::array<double, 2>> x_range;  ///< of the horizontal axis; none: what there is
  std::optional<std::array<double, 2>>
      y_range;  ///< of the vertical axis; curves and harmonics alone have these
};

/// The picture of a harmonics sheet as the bytes of a file: spectrum over a log frequency axis, orders
/// numbered, the own floor beneath; one panel per channel, at most four.
///
/// @throws Error bad_argument when the sheet holds no spectrum
/// @throws Error bad_output   when gnuplot cannot be run or draws nothing
[[nodiscard]] WAVICON_EXPORT std::string draw_harmonics(const Sheet& sheet, const PlotOptions& options = {});

/// The orders of several harmonics sheets beside each other, a bar for each capture and channel (at most
/// six), bounds as rings. Errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_orders(const std::vector<Sheet>& sheets,
                                                     const PlotOptions& options = {});

/// One period of each tone over a clean one, and beneath it what was added, on a scale of its own; at most
/// four. Errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_period(const std::vector<Sheet>& sheets,
                                                     const PlotOptions& options = {});

/// The waveforms of a latency sheet on the sample grid, as they came and moved. Errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_latency(const Sheet& sheet, const PlotOptions& options = {});

/// A pair sheet at a glance: levels over frequency and time, phase, correlation. Errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_pair(const Sheet& sheet, const PlotOptions& options = {});

/// The gain of dynamics sheets over time under the waveforms that it made; at most four blocks. Errors as
/// draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_gain(const std::vector<Sheet>& sheets,
                                                   const PlotOptions& options = {});

/// A few periods of tones as they went in and came out, of a waveforms sheet, on the sample grid, with their
/// difference; at most four frequencies. Errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_waveforms(const Sheet& sheet, const PlotOptions& options = {});

/// Curves of those names from all sheets and channels in one picture, each named by its file, its channel
/// where there are several, and its name where several are asked for, at its right end; more than six are
/// shades of one scale in the order of the sheets.
///
/// @param answer  the title; empty: what the first finding of a single sheet says, else the style's title,
///                which otherwise stands below it.
/// @throws Error as draw_harmonics()
[[nodiscard]] WAVICON_EXPORT std::string draw_curves(const std::vector<Sheet>& sheets,
                                                     const CurveStyle& style, const PlotOptions& options = {},
                                                     const std::string& answer = {});

/// The first map of a sheet, time over frequency, dark where it is loud over 120 dB, with the paths of orders
/// and the names of parts that the sheet holds; errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_spectrogram(const Sheet& sheet,
                                                          const PlotOptions& options = {});

/// Figures in rows under each other, each with its name and uncertainty. Errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_rows(const Sheet& sheet, const Picture& picture,
                                                   const PlotOptions& options = {});

/// Figures over dates, a panel for each sheet (at most four), each with its uncertainty. Errors as
/// draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_over_dates(const std::vector<Sheet>& sheets,
                                                         const Picture& picture,
                                                         const PlotOptions& options = {});

/// Whatever a measurement says is to be drawn of its sheets. Errors as draw_harmonics().
[[nodiscard]] WAVICON_EXPORT std::string draw_picture(const std::vector<Sheet>& sheets,
                                                      const Picture& picture,
                                                      const PlotOptions& options = {});

/// How much of what there is fits into one picture: the first ones are drawn.
struct Drawable {
  std::size_t most = 0;   ///< that are drawn
  std::size_t there = 0;  ///< in the sheets
  std::string what;       ///< "curves", "channels"
};
[[nodiscard]] WAVICON_EXPORT Drawable drawable(const std::vector<Sheet>& sheets, const Picture& picture);

}  // namespace wavicon
