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

WAVICON_WIDE void weighted_sum(const double* x, const double* weights, std::size_t length, double* result) {
  Lanes sum{};
  for (std::size_t n = 0; n < length; n += kLanes) {
    Lanes sample, weight;
    std::memcpy(&sample, x + n, sizeof sample);
    std::memcpy(&weight, weights + n, sizeof weight);
    sum += weight * sample;
  }
  *result = (sum[0] + sum[1]) + (sum[2] + sum[3]);
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
  std::vector<double> low;
  low.reserve(samples.size() / step_ + 1);
  for (std::size_t at = 0; at + weights_.size() <= samples.size(); at += step_) {
    low.push_back(0);
    weighted_sum(samples.data() + at, weights_.data(), weights_.size(), &low.back());
  }
  return low;
}

}  // namespace wavicon
