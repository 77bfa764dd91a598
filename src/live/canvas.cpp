// SPDX-License-Identifier: MIT
#include "wavicon/live/canvas.hpp"

#include <algorithm>
#include <cmath>

namespace wavicon {
namespace {

constexpr char32_t kNoDots = 0x2800;  // the empty one of the Braille patterns
constexpr int kDotBits[2][4] = {{0x01, 0x02, 0x04, 0x40}, {0x08, 0x10, 0x20, 0x80}};

// Code points of UTF-8; what is broken becomes a question mark.
std::u32string code_points(std::string_view text) {
  std::u32string points;
  for (std::size_t i = 0; i < text.size();) {
    const auto lead = static_cast<unsigned char>(text[i]);
    const std::size_t length = lead < 0x80 ? 1 : lead >= 0xF0 ? 4 : lead >= 0xE0 ? 3 : lead >= 0xC0 ? 2 : 0;
    if (length == 0 || i + length > text.size()) {
      points += U'?';
      ++i;
      continue;
    }
    char32_t point = length == 1 ? lead : lead & (0x7F >> length);
    for (std::size_t k = 1; k < length; ++k)
      point = point << 6 | (static_cast<unsigned char>(text[i + k]) & 0x3F);
    points += point < 0x20 || (point >= 0x7F && point < 0xA0) ? U'?' : point;
    i += length;
  }
  return points;
}

void append_utf8(std::string& text, char32_t point) {
  const auto byte = [&](unsigned value) { text += static_cast<char>(value); };
  if (point < 0x80) {
    byte(point);
  } else if (point < 0x800) {
    byte(0xC0 | point >> 6);
    byte(0x80 | (point & 0x3F));
  } else if (point < 0x10000) {
    byte(0xE0 | point >> 12);
    byte(0x80 | (point >> 6 & 0x3F));
    byte(0x80 | (point & 0x3F));
  } else {
    byte(0xF0 | point >> 18);
    byte(0x80 | (point >> 12 & 0x3F));
    byte(0x80 | (point >> 6 & 0x3F));
    byte(0x80 | (point & 0x3F));
  }
}

// What a terminal without wide characters shows instead.
char32_t plain_glyph(char32_t glyph) {
  if (glyph < 0x80) return glyph;
  if (glyph > kNoDots && glyph <= kNoDots + 0xFF) {
    const unsigned bits = glyph - kNoDots;
    const bool up = (bits & 0x1B) != 0, down = (bits & 0xE4) != 0;
    return up && down ? U':' : up ? U'\'' : U'.';
  }
  switch (glyph) {
    case U'─':
      return U'-';
    case U'│':
      return U'|';
    case U'░':
    case U'·':
      return U'.';
    case U'▒':
      return U':';
    case U'▓':
      return U'+';
    case U'→':
      return U'>';
    case U'±':
      return U'~';
    case U'↑':
    case U'▴':
      return U'^';
    default:
      return glyph >= U'▀' && glyph <= U'▟' ? U'#' : U'?';
  }
}

}  // namespace

Canvas::Canvas(int width, int height, bool only_ascii)
    : width_(std::max(1, width)),
      height_(std::max(1, height)),
      only_ascii_(only_ascii),
      cells_(static_cast<std::size_t>(width_ * height_)) {}

void Canvas::set(int x, int y, char32_t glyph, Ink ink, bool bold) {
  if (x < 0 || y < 0 || x >= width_ || y >= height_) return;
  cells_[static_cast<std::size_t>(y * width_ + x)] = {only_ascii_ ? plain_glyph(glyph) : glyph, ink, bold};
}

int Canvas::text(int x, int y, std::string_view text, Ink ink, bool bold, int most) {
  int taken = 0;
  const int room = most < 0 ? width_ - x : std::min(most, width_ - x);
  for (const char32_t point : code_points(text)) {
    if (taken >= room) break;
    set(x + taken++, y, point, ink, bold);
  }
  return taken;
}

void Canvas::bar(int x, int y, double cells, Ink ink) {
  const int eighths = static_cast<int>(std::lround(8 * cells));
  for (int i = 0; i < eighths / 8; ++i) set(x + i, y, U'█', ink);
  if (const int rest = eighths % 8; rest > 0)
    set(x + eighths / 8, y, static_cast<char32_t>(U'█' + 8 - rest), ink);
}

std::string Canvas::row(int y) const {
  std::string text;
  for (int x = 0; x < width_; ++x) append_utf8(text, at(x, y).glyph);
  text.erase(text.find_last_not_of(' ') + 1);
  return text;
}

DotPlot::DotPlot(Canvas& canvas, const CellArea& area) : canvas_(canvas), area_(area) {}

void DotPlot::dot(int x, int y, Ink ink) {
  if (x < 0 || y < 0 || x >= width() || y >= height()) return;
  const int column = area_.left + x / 2, row = area_.top + y / 4;
  if (column >= canvas_.width() || row >= canvas_.height()) return;
  const char32_t bit = static_cast<char32_t>(kDotBits[x % 2][y % 4]);
  const char32_t old = canvas_.at(column, row).glyph;
  if (canvas_.only_ascii()) {
    const char32_t mark = y % 4 < 2 ? U'\'' : U'.';
    const bool other = (old == U'\'' || old == U'.') && old != mark;
    canvas_.set(column, row, other || old == U':' ? U':' : mark, ink);
    return;
  }
  const bool dots = old >= kNoDots && old <= kNoDots + 0xFF;
  canvas_.set(column, row, (dots ? old : kNoDots) | bit, ink);
}

void DotPlot::curve(const std::vector<double>& heights, Ink ink, bool filled) {
  int before = -1;
  for (int x = 0; x < std::min(width(), static_cast<int>(heights.size())); ++x) {
    const double share = heights[static_cast<std::size_t>(x)];
    if (!std::isfinite(share)) {
      before = -1;
      continue;
    }
    const int y = height() - 1 - static_cast<int>(std::lround(std::clamp(share, 0.0, 1.0) * (height() - 1)));
    // Joined with the column before: from there to here.
    const int from = filled ? height() - 1 : before < 0 ? y : before;
    for (int at = std::min(from, y); at <= std::max(from, y); ++at) dot(x, at, ink);
    before = y;
  }
}

}  // namespace wavicon
