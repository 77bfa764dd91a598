// SPDX-License-Identifier: MIT
#include "wavicon/audio/decimator.hpp"

#include <cmath>
#include <cstring>
#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kReach = 8;  // samples of the low rate on either side
constexpr double kBeta = 8;        // 80 dB
constexpr std::size_t kLanes = 4;  // doubles side by side: two or four fit a register
using Lanes = double __attribute__((vector_size(kLanes * sizeof(double))));

constexpr std::size_t kSideBySide = 4;  // values of the low rate that do not wait for each other

// Values at x, x + step, …, each in an order of its own.
template <std::size_t kCount>
WAVICON_WITHIN_WIDE void weighted_sums(const double* x, std::size_t step, const double* weights,
                                       std::size_t length, double* result) {
  Lanes sum[kCount] = {};
  for (std::size_t n = 0; n < length; n += kLanes) {
    Lanes weight;
    std::memcpy(&weight, weights + n, sizeof weight);
    for (std::size_t i = 0; i < kCount; ++i) {
      Lanes sample;
      std::memcpy(&sample, x + i * step + n, sizeof sample);
      sum[i] += weight * sample;
    }
  }
  for (std::size_t i = 0; i < kCount; ++i) result[i] = (sum[i][0] + sum[i][1]) + (sum[i][2] + sum[i][3]);
}

WAVICON_WIDE void decimate(const double* x, std::size_t step, const double* weights, std::size_t length,
                           std::size_t count, double* result) {
  std::size_t n = 0;
  for (; n + kSideBySide <= count; n += kSideBySide)
    weighted_sums<kSideBySide>(x + n * step, step, weights, length, result + n);
  for (; n < count; ++n) weighted_sums<1>(x + n * step, step, weights, length, result + n);
}

}  // namespace

Decimator::Decimator(std::size_t step, double cutoff) : step_(step) {
  const std::size_t length = 2 * kReach * step;
  weights_ = kaiser_window(length, kBeta);
  double sum = 0;
  for (std::size_t n = 0; n < length; ++n) {
    const double d = 2 * std::numbers::pi * cutoff / static_cast<double>(step) *
                     (static_cast<double>(n) - static_cast<double>(length - 1) / 2);
    weights_[n] *= std::sin(d) / d;
    sum += weights_[n];
  }
  for (double& weight : weights_) weight /= sum;
}

std::vector<double> Decimator::operator()(std::span<const double> samples) const {
  if (samples.size() < weights_.size()) return {};
  std::vector<double> low((samples.size() - weights_.size()) / step_ + 1);
  decimate(samples.data(), step_, weights_.data(), weights_.size(), low.size(), low.data());
  return low;
}

}  // namespace wavicon
