// SPDX-License-Identifier: MIT
#pragma once
// Cells of a terminal, drawn on without one.

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// What a cell is drawn with; what that looks like is the terminal's matter.
enum class Ink : std::uint8_t {
  plain,
  muted,      ///< axes, help
  first,      ///< the first source
  second,     ///< the second one
  highest,    ///< what is held
  reference,  ///< a trace that was kept, or is frozen
  good,
  warning,
  heat_0,  ///< and on to heat_0 + kHeats - 1: levels of a spectrogram, faint to strong
};
inline constexpr int kHeats = 12;

struct Cell {
  char32_t glyph = U' ';
  Ink ink = Ink::plain;
  bool bold = false;
};

/// A part of the cells.
struct CellArea {
  int left = 0, top = 0, width = 0, height = 0;
};

class WAVICON_EXPORT Canvas {
 public:
  /// @param only_ascii  for terminals that show nothing else.
  Canvas(int width, int height, bool only_ascii = false);
  [[nodiscard]] int width() const noexcept { return width_; }
  [[nodiscard]] int height() const noexcept { return height_; }
  [[nodiscard]] bool only_ascii() const noexcept { return only_ascii_; }
  [[nodiscard]] CellArea whole() const noexcept { return {0, 0, width_, height_}; }
  [[nodiscard]] const Cell& at(int x, int y) const {
    return cells_.at(static_cast<std::size_t>(y * width_ + x));
  }

  void set(int x, int y, char32_t glyph, Ink ink = Ink::plain, bool bold = false);
  /// UTF-8, cut at the end of `most` cells (-1: of the row). @return cells that it took.
  int text(int x, int y, std::string_view text, Ink ink = Ink::plain, bool bold = false, int most = -1);
  /// A horizontal bar, to an eighth of a cell.
  void bar(int x, int y, double cells, Ink ink);
  /// One row as UTF-8, without blanks at its end.
  [[nodiscard]] std::string row(int y) const;

 private:
  int width_, height_;
  bool only_ascii_;
  std::vector<Cell> cells_;
};

/// A curve of dots in an area: 2 x 4 of them in a cell.
class WAVICON_EXPORT DotPlot {
 public:
  DotPlot(Canvas& canvas, const CellArea& area);
  [[nodiscard]] int width() const noexcept { return 2 * area_.width; }
  [[nodiscard]] int height() const noexcept { return 4 * area_.height; }
  /// From the left and the top; outside of the area nothing happens.
  void dot(int x, int y, Ink ink);
  /// One height for each dot column, from the bottom, 0 … 1; joined. NaN: a gap. @param filled  down to the
  /// bottom.
  void curve(const std::vector<double>& heights, Ink ink, bool filled = false);

 private:
  Canvas& canvas_;
  CellArea area_;
};

}  // namespace wavicon
