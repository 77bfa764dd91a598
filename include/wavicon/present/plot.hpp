#pragma once
// Sheets as pictures, drawn by gnuplot.

#include <string>

#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

enum class PlotFormat { png, svg };

struct PlotOptions {
  PlotFormat format = PlotFormat::png;
  int width_px = 1280;
  int height_px = 800;
};

/// The picture of a harmonics sheet as the bytes of a file: spectrum over a log frequency axis, orders
/// numbered, the own floor beneath; one panel per channel, at most four.
///
/// @throws Error bad_argument when the sheet holds no spectrum
/// @throws Error bad_output   when gnuplot cannot be run or draws nothing
[[nodiscard]] std::string draw_harmonics(const Sheet& sheet, const PlotOptions& options = {});

/// The first map of a sheet, time over frequency, dark where it is loud over 120 dB, with the paths of orders
/// and the names of parts that the sheet holds; errors as draw_harmonics().
[[nodiscard]] std::string draw_spectrogram(const Sheet& sheet, const PlotOptions& options = {});

}  // namespace wavicon
