// SPDX-License-Identifier: MIT
#pragma once
// What a picture of sheets shows, as plain data: measurements say it, `present` draws it.

#include <array>
#include <cstddef>
#include <optional>
#include <string>
#include <vector>

namespace wavicon {

/// A place on a curve that is written out.
struct PlotMark {
  std::size_t sheet = 0;    ///< whose curve it is on
  double x = 0;             ///< on the axis
  std::optional<double> y;  ///< none: where the strong curve of that sheet is
  std::string text;
};

/// A level across the picture.
struct PlotLine {
  double y = 0;
  std::string text;
};

/// How curves are laid over each other.
struct CurveStyle {
  std::vector<std::string> names;  ///< of the curves; the first one strong, others thin
  std::vector<std::string>
      panels;                     ///< endings of the names: a panel for the curves of each, on the same axes
  std::vector<std::string> once;  ///< curves of the first sheet alone, thin
  std::string title;
  std::string x_title;
  std::string y_title;
  bool log_frequency = false;  ///< frequency axis from 20 Hz or lowest_x
  double lowest_x = 20;
  bool steps = false;        ///< bars, as of a histogram
  bool points = false;       ///< single values; the axis shows all of them
  bool joined = false;       ///< points: with lines from one to the next
  double shown_range = 140;  ///< at most so far below the highest value
  std::vector<PlotMark> marks;
  bool lines_on_top = false;  ///< marks are of lines: where the curve is highest close by
  std::vector<PlotLine> lines;
  std::string behind;           ///< the longest curve of that name stands quietly behind all others
  bool named_by_marks = false;  ///< marks say whose they are: no names at the ends of the lines
  std::optional<std::array<double, 2>> x_span, y_span;  ///< of the axes; none: what there is
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
  rows,       ///< figures in rows under each other, named by the labels of one sheet: the curve "value" over
              ///< the row (from 1), "uncertainty" beside it; the row of the first mark stands out
  over_dates  ///< figures of each sheet over seconds since 1970 in a panel: curves "value", "uncertainty"
};

struct Picture {
  PictureKind kind = PictureKind::curves;
  std::string answer;  ///< the title; empty: what the first sheet says, of several sheets the style's title
  CurveStyle style;    ///< of PictureKind::curves
};

}  // namespace wavicon
