// SPDX-License-Identifier: MIT
#include "wavicon/audio/between_samples.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kTaps = 2 * kBetweenReach;  // as many on each side of the place
constexpr double kBeta = 6;                       // 63 dB; passes 0.4 of the rate within 0.01 dB
constexpr std::size_t kLanes = 4;  // samples summed side by side, in an order that no compiler changes

using Phases = std::array<std::array<double, kTaps>, 3>;

// Weights of samples n - 15 … n + 16 for the places n + 1/4, n + 2/4, n + 3/4.
const Phases& phases() {
  static const Phases table = [] {
    Phases result{};
    const auto window = kaiser_window(8 * kTaps, kBeta);
    for (std::size_t p = 0; p < 3; ++p) {
      double sum = 0;
      for (std::size_t k = 0; k < kTaps; ++k) {
        const double at = static_cast<double>(p + 1) / 4;
        const double d = std::numbers::pi * (static_cast<double>(k) - (kBetweenReach - 1) - at);
        // The window's samples lie at the centres of its steps: this distance is half-way between two.
        const std::size_t beside = 8 * k + 5 - 2 * p;
        result[p][k] = std::sin(d) / d * (window[beside] + window[beside + 1]) / 2;
        sum += result[p][k];
      }
      for (double& weight : result[p]) weight /= sum;
    }
    return result;
  }();
  return table;
}

// Four places at once, so that the sums run side by side.
WAVICON_WIDE void sums(const double* x, const double* weights, double* result) {
  double lane[kLanes] = {};
  for (std::size_t k = 0; k < kTaps; ++k)
    for (std::size_t i = 0; i < kLanes; ++i) lane[i] += weights[k] * x[k + i];
  for (std::size_t i = 0; i < kLanes; ++i) result[i] = lane[i];
}

}  // namespace

std::pair<double, std::size_t> highest_between(std::span<const double> samples) {
  std::pair<double, std::size_t> highest{0, 0};
  if (samples.size() <= kTaps) return highest;
  const std::size_t count = samples.size() - kTaps;
  double found[kLanes];
  // Four places are looked at together: a shorter run gets silence behind it, which is not counted.
  std::array<double, kTaps + kLanes> padded{};
  if (count < kLanes) {
    std::copy(samples.begin(), samples.end(), padded.begin());
    samples = padded;
  }
  for (std::size_t n = 0; n < count; n += kLanes) {
    // The last few are looked at again rather than read beyond the end.
    const std::size_t at = n + kLanes <= count ? n : (count >= kLanes ? count - kLanes : 0);
    for (const auto& weights : phases()) {
      sums(samples.data() + at + 1, weights.data(), found);
      for (std::size_t i = 0; i < std::min(kLanes, count); ++i)
        if (std::abs(found[i]) > highest.first) highest = {std::abs(found[i]), at + i};
    }
  }
  return highest;
}

}  // namespace wavicon
