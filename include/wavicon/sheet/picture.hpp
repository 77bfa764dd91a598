// SPDX-License-Identifier: MIT
#pragma once
// What a picture of sheets shows, as plain data: measurements say it, `present` draws it.

#include <string>
#include <vector>

namespace wavicon {

/// How curves are laid over each other.
struct CurveStyle {
  std::vector<std::string> names;  ///< of the curves; the first one strong, others thin
  std::string title;
  std::string x_title;
  std::string y_title;
  bool log_frequency = false;  ///< frequency axis from 20 Hz or lowest_x
  double lowest_x = 20;
  bool steps = false;        ///< bars, as of a histogram
  bool points = false;       ///< single values; the axis shows all of them
  double shown_range = 140;  ///< at most so far below the highest value
  double half_turn =
      0;  ///< of angles: the axis runs from minus to plus this, and lines break where they wrap
};

/// The ways of drawing that `present` knows.
enum class PictureKind {
  curves,           ///< curves of some names, from all sheets
  harmonic_lines,   ///< the spectrum of a tone with its orders numbered, of one sheet
  harmonic_orders,  ///< orders of several sheets beside each other
  period,           ///< one period of each tone, and what was added to it
  level_map,        ///< a level map, time over frequency, of one sheet
  impulse_places,   ///< waveforms as they came and moved, of one latency sheet
  pair_overview,    ///< levels, phase and correlation of a pair, of one sheet
  gain_and_wave,    ///< gain over time under the waveform that it made
  in_over_out,      ///< periods as they went in and came out, of one sheet
};

struct Picture {
  PictureKind kind = PictureKind::curves;
  CurveStyle style;  ///< of PictureKind::curves
};

}  // namespace wavicon
