// SPDX-License-Identifier: MIT
#include "samples.hpp"

#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::size_t kLanes = 8;

// Sums of lanes, in one order.
double added(const double* lanes) {
  return ((lanes[0] + lanes[4]) + (lanes[2] + lanes[6])) + ((lanes[1] + lanes[5]) + (lanes[3] + lanes[7]));
}

// Pairs of doubles; products are added up with their signs in them, as in transform.cpp.
WAVICON_WIDE void multiply(double* bins, const double* others, std::size_t count) {
  for (std::size_t k = 0; k < count; ++k) {
    const double re = bins[2 * k], im = bins[2 * k + 1], other_re = others[2 * k],
                 other_im = others[2 * k + 1];
    bins[2 * k] = re * other_re + im * other_im;
    bins[2 * k + 1] = im * other_re + -re * other_im;
  }
}

WAVICON_WIDE void add_products(const double* x, const double* y, std::size_t count, double* sums) {
  double lanes[kLanes] = {};
  std::size_t n = 0;
  for (; n + kLanes <= count; n += kLanes)
    for (std::size_t i = 0; i < kLanes; ++i) lanes[i] += x[n + i] * y[n + i];
  for (std::size_t i = 0; n < count; ++n, ++i) lanes[i] += x[n] * y[n];
  std::copy(lanes, lanes + kLanes, sums);
}

// Every eighth bin in a lane of its own, turned by `phases`, which the step turns on.
WAVICON_WIDE void add_turned(const double* bins, std::size_t groups, const double* phases, double step_re,
                             double step_im, double* sums) {
  double re[kLanes], im[kLanes], lanes[kLanes];
  for (std::size_t j = 0; j < kLanes; ++j) {
    re[j] = phases[j];
    im[j] = phases[kLanes + j];
    lanes[j] = sums[j];
  }
  for (std::size_t g = 0; g < groups; ++g)
    for (std::size_t j = 0; j < kLanes; ++j) {
      const double* bin = bins + 2 * (kLanes * g + j);
      const double p_re = re[j], p_im = im[j];
      lanes[j] += bin[0] * p_re + -bin[1] * p_im;
      re[j] = p_re * step_re + -p_im * step_im;
      im[j] = p_re * step_im + p_im * step_re;
    }
  std::copy(lanes, lanes + kLanes, sums);
}

WAVICON_WIDE void find_highest(const double* bins, std::size_t count, double* highest) {
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

double sum_of_products(std::span<const double> x, std::span<const double> y) {
  double sums[kLanes] = {};
  add_products(x.data(), y.data(), x.size(), sums);
  return added(sums);
}

double sum_of_turned(std::span<const std::complex<double>> bins, double turn) {
  const std::complex<double> step = std::polar(1.0, turn);
  std::complex<double> phase = 1, group_step = step;
  double phases[2 * kLanes], sums[kLanes] = {};
  for (std::size_t j = 0; j < kLanes; ++j, phase *= step) {
    phases[j] = phase.real();
    phases[kLanes + j] = phase.imag();
  }
  for (std::size_t n = 1; n < kLanes; n *= 2) group_step *= group_step;
  const std::size_t groups = bins.size() / kLanes;
  add_turned(reinterpret_cast<const double*>(bins.data()), groups, phases, group_step.real(),
             group_step.imag(), sums);
  double sum = added(sums);
  phase = std::polar(1.0, turn * static_cast<double>(groups * kLanes));
  for (std::size_t k = groups * kLanes; k < bins.size(); ++k, phase *= step) sum += (bins[k] * phase).real();
  return sum;
}

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
