// SPDX-License-Identifier: MIT
#include "samples.hpp"

#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {
namespace {

// Pairs of doubles; products are added up with their signs in them, as in transform.cpp.
WAVICON_WIDE void multiply(double* bins, const double* others, std::size_t count) {
  for (std::size_t k = 0; k < count; ++k) {
    const double re = bins[2 * k], im = bins[2 * k + 1], other_re = others[2 * k],
                 other_im = others[2 * k + 1];
    bins[2 * k] = re * other_re + im * other_im;
    bins[2 * k + 1] = im * other_re + -re * other_im;
  }
}

WAVICON_WIDE void find_highest(const double* bins, std::size_t count, double* highest) {
  constexpr std::size_t kLanes = 8;
  double lanes[kLanes] = {};
  std::size_t k = 0;
  for (; k + kLanes <= count; k += kLanes)
    for (std::size_t i = 0; i < kLanes; ++i) {
      const double re = bins[2 * (k + i)], im = bins[2 * (k + i) + 1], power = re * re + im * im;
      lanes[i] = power > lanes[i] ? power : lanes[i];
    }
  for (; k < count; ++k)
    lanes[0] = std::max(lanes[0], bins[2 * k] * bins[2 * k] + bins[2 * k + 1] * bins[2 * k + 1]);
  *highest = *std::max_element(lanes, lanes + kLanes);
}

}  // namespace

double highest_power(std::span<const std::complex<double>> bins) {
  double highest = 0;
  find_highest(reinterpret_cast<const double*>(bins.data()), bins.size(), &highest);
  return highest;
}

void times_conjugates(std::span<std::complex<double>> bins, std::span<const std::complex<double>> others) {
  multiply(reinterpret_cast<double*>(bins.data()), reinterpret_cast<const double*>(others.data()),
           bins.size());
}

std::vector<double> correlation_of(std::span<const double> x, std::span<const double> y) {
  RealTransform transform(fast_transform_length(x.size() + y.size()));
  const auto own = transform.bins_of(x);
  auto cross = transform.bins_of(y);
  times_conjugates(cross, own);
  const auto around = transform.invert(cross);
  // What lies before the first lag stands at the end.
  std::vector<double> sums(around.end() - static_cast<std::ptrdiff_t>(x.size() - 1), around.end());
  sums.insert(sums.end(), around.begin(), around.begin() + static_cast<std::ptrdiff_t>(y.size()));
  return sums;
}

std::complex<double> sine_amplitude(std::span<const double> x, double cycles_per_frame) {
  if (x.empty()) return 0;
  const double frames = static_cast<double>(x.size()), middle = 0.5 * (frames - 1);
  // Raised cosine and carrier, turned from sample to sample: a sine for each costs more than all else.
  std::complex<double> sum = 0, fade = std::polar(1.0, std::numbers::pi / frames),
                       carrier = std::polar(1.0, 2 * std::numbers::pi * cycles_per_frame * middle);
  const std::complex<double> fade_turn = fade * fade,
                             turn = std::polar(1.0, -2 * std::numbers::pi * cycles_per_frame);
  double weight = 0;
  for (const double v : x) {
    const double h = 0.5 - 0.5 * fade.real();
    sum += h * v * carrier;
    weight += h;
    fade *= fade_turn;
    carrier *= turn;
  }
  return std::complex<double>(0, 2) * sum / weight;
}

}  // namespace wavicon::intake_detail
