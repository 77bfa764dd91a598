// SPDX-License-Identifier: MIT
#include "measure/response/impulse.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace wavicon::measure_detail {
namespace {

constexpr double kMainTap = 0.7;  // of the power of what lies within 8 frames
constexpr std::ptrdiff_t kAround = 8;
constexpr std::ptrdiff_t kNearZero = 2;

}  // namespace

std::optional<CutImpulse> cut_impulse(std::span<const double> circular, std::size_t tail, double rest) {
  const std::size_t before = std::min(kImpulseBefore, circular.size() / 4),
                    length = std::min(before + tail, circular.size());
  CutImpulse impulse{.taps = std::vector<double>(length), .before = before, .zero = before, .rest = rest};
  double top_size = 0;
  std::ptrdiff_t top = 0;
  for (std::size_t i = 0; i < length; ++i) {
    const double left = std::min(static_cast<double>(length - i) / (0.1 * static_cast<double>(length)),
                                 static_cast<double>(i) / (0.5 * static_cast<double>(before)));
    const double fade = left < 1 ? 0.5 - 0.5 * std::cos(std::numbers::pi * left) : 1;
    impulse.squares += fade * fade;
    impulse.taps[i] = fade * circular[(i + circular.size() - before) % circular.size()];
    if (const double size = std::abs(impulse.taps[i]); size > top_size) {
      top_size = size;
      top = static_cast<std::ptrdiff_t>(i);
    }
  }
  if (top_size == 0) return std::nullopt;
  double around = 0;
  for (std::ptrdiff_t i = std::max<std::ptrdiff_t>(0, top - kAround);
       i <= top + kAround && i < static_cast<std::ptrdiff_t>(length); ++i)
    around += impulse.taps[static_cast<std::size_t>(i)] * impulse.taps[static_cast<std::size_t>(i)];
  if (top_size * top_size > kMainTap * around &&
      std::abs(top - static_cast<std::ptrdiff_t>(before)) <= kNearZero) {
    impulse.zero = static_cast<std::size_t>(top);
    impulse.rest = 0;
  }
  return impulse;
}

}  // namespace wavicon::measure_detail
