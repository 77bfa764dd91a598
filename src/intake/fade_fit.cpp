// SPDX-License-Identifier: MIT
#include "fade_fit.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace wavicon::intake_detail {
namespace {

constexpr int kMostRounds = 30;
constexpr double kAtRest = 1e-3;  // frames
constexpr double kPi = std::numbers::pi;

struct Gain {
  double value, slope;  // by the share of the fade that has gone by
};
using Shape = Gain (*)(double);

Gain raised_cosine(double u) { return {0.5 - 0.5 * std::cos(kPi * u), 0.5 * kPi * std::sin(kPi * u)}; }
Gain straight(double u) { return {u, 1}; }
Gain quarter_sine(double u) { return {std::sin(0.5 * kPi * u), 0.5 * kPi * std::cos(0.5 * kPi * u)}; }

struct Kind {
  Shape shape;
  double seen;  // share of it after which the rest is within 2 %
};
constexpr std::array kKinds = {Kind{raised_cosine, 0.91}, Kind{straight, 0.98}, Kind{quarter_sine, 0.87}};

std::optional<FittedFade> fitted(const Kind& kind, std::span<const double> x, std::span<const double> tone,
                                 double seen) {
  FittedFade fade{.frames = seen / kind.seen, .raised_cosine = kind.shape == raised_cosine};
  bool rests = false;
  double left = 0;
  for (int round = 0; round < kMostRounds && !rests; ++round) {
    double aa = 0, ab = 0, bb = 0, ar = 0, br = 0;
    left = 0;
    for (std::size_t k = 0; k < x.size(); ++k) {
      const double u = (static_cast<double>(k) + 0.5 - fade.edge) / fade.frames;
      const Gain gain = u <= 0 ? Gain{0, 0} : u >= 1 ? Gain{1, 0} : kind.shape(u);
      const double off = x[k] - gain.value * tone[k], by_edge = -gain.slope * tone[k] / fade.frames,
                   by_frames = u * by_edge;
      left += off * off;
      aa += by_edge * by_edge;
      ab += by_edge * by_frames;
      bb += by_frames * by_frames;
      ar += by_edge * off;
      br += by_frames * off;
    }
    const double det = aa * bb - ab * ab;
    if (!(det > 1e-9 * aa * bb)) return std::nullopt;
    const double most = 0.1 * fade.frames;
    const double edge = std::clamp((ar * bb - br * ab) / det, -most, most),
                 frames = std::clamp((br * aa - ar * ab) / det, -most, most);
    fade.edge += edge;
    fade.frames += frames;
    if (!(fade.frames > 2) || fade.frames > 4 * seen) return std::nullopt;
    rests = std::abs(edge) < kAtRest && std::abs(frames) < kAtRest;
  }
  if (!rests) return std::nullopt;
  fade.stray = std::sqrt(left / static_cast<double>(x.size()));
  return fade;
}

}  // namespace

std::optional<FittedFade> fit_fade(std::span<const double> x, std::span<const double> tone, double seen) {
  std::optional<FittedFade> best;
  for (const Kind& kind : kKinds)
    if (const auto one = fitted(kind, x, tone, seen); one && (!best || one->stray < best->stray)) best = one;
  return best;
}

}  // namespace wavicon::intake_detail
