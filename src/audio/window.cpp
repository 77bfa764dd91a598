// SPDX-License-Identifier: MIT
#include "wavicon/audio/window.hpp"

#include <array>
#include <cmath>
#include <numbers>

#include "audio/wide.hpp"

namespace wavicon {
namespace {

constexpr int kSeriesTerms = 100;  // (β/2)^2k/(k!)² at β = 60 is below 1e-16 of the sum from k = 85 on

std::array<double, kSeriesTerms> inverse_square_factorials() {
  std::array<double, kSeriesTerms> terms{};
  double value = 1.0;
  for (int k = 0; k < kSeriesTerms; ++k) {
    if (k > 0) value /= static_cast<double>(k) * k;
    terms[static_cast<std::size_t>(k)] = value;
  }
  return terms;
}

// Enough terms for arguments up to beta: they have fallen for good by k = β + 20.
int terms_for(double beta) { return std::min(kSeriesTerms, static_cast<int>(beta) + 24); }

constexpr std::size_t kLanes = 16;  // independent series side by side, for the processor to overlap

// Replaces each q by Σ q^k/(k!)².
WAVICON_WIDE void sum_series(const double* terms, int count, double* q) {
  double sum[kLanes] = {};
  for (int k = count - 1; k >= 0; --k)
    for (std::size_t lane = 0; lane < kLanes; ++lane) sum[lane] = sum[lane] * q[lane] + terms[k];
  for (std::size_t lane = 0; lane < kLanes; ++lane) q[lane] = sum[lane];
}

}  // namespace

std::vector<double> kaiser_window(std::size_t length, double beta) {
  static const std::array<double, kSeriesTerms> kTerms = inverse_square_factorials();
  const int count = terms_for(beta);
  auto series = [&](std::array<double, kLanes>& q) { sum_series(kTerms.data(), count, q.data()); };
  const double quarter = beta * beta / 4.0;
  std::array<double, kLanes> at_centre{quarter};
  series(at_centre);

  std::vector<double> window(length);
  const std::size_t half = (length + 1) / 2;
  for (std::size_t i = 0; i < half; i += kLanes) {
    std::array<double, kLanes> q{};
    for (std::size_t lane = 0; lane < kLanes; ++lane) {
      const double t = (2.0 * static_cast<double>(i + lane) + 1.0) / static_cast<double>(length) - 1.0;
      q[lane] = quarter * std::max(0.0, (1.0 - t) * (1.0 + t));
    }
    series(q);
    for (std::size_t lane = 0; lane < kLanes && i + lane < half; ++lane)
      window[i + lane] = window[length - 1 - i - lane] = q[lane] / at_centre[0];
  }
  return window;
}

std::span<const double> KaiserWindows::get(std::size_t length, double beta) {
  auto& window = windows_[{length, beta}];
  if (window.empty()) window = kaiser_window(length, beta);
  return window;
}

double kaiser_half_width_bins(double beta) { return std::hypot(1.0, beta / std::numbers::pi); }

double kaiser_skirt_ratio(double beta, double distance_bins) {
  return 2.0 * beta * std::exp(-beta) / (std::numbers::pi * distance_bins);
}

}  // namespace wavicon
