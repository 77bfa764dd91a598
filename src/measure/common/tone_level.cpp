// SPDX-License-Identifier: MIT
#include "measure/common/tone_level.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/order_frames.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr int kOrders = 10;        // fitted along, so that they do not count as level
constexpr double kHighest = 0.46;  // of the rate, that an order may reach
constexpr double kFitNoise =
    5.0;  // variance of an amplitude over the rest's, times frames: 2, and the window
constexpr double kToneStandsOut = 4;  // over what no order explains, as amplitude

}  // namespace

std::optional<double> ToneLevel::thd_ratio(std::size_t frames) const {
  double power = 0;
  for (std::size_t k = 1; k < orders.size(); ++k) power += orders[k] * orders[k];
  // Noise in the fit of all orders: what is left, less by the number of samples that weigh in.
  const double noise =
      residual * std::sqrt(8.0 * static_cast<double>(orders.size()) / static_cast<double>(frames));
  if (!(amplitude > 0) || !(std::sqrt(power) > kToneStandsOut * noise)) return std::nullopt;
  return std::sqrt(power) / amplitude;
}

double ToneLevel::uncertainty(std::size_t frames) const {
  return 2 * residual * std::sqrt(kFitNoise / static_cast<double>(frames));
}

ToneLevel tone_level(std::span<const double> x, double step) {
  ToneLevel tone;
  const int highest = std::clamp(static_cast<int>(2 * std::numbers::pi * kHighest / step), 1, kOrders);
  OrderFitter fitter(x.size() / 4 * 4, highest);
  std::vector<double> cosine(fitter.frame()), sine(fitter.frame());
  const Phase turn = phase_from_cycles(step / (2 * std::numbers::pi));
  steady_sines(0, turn, sine);
  steady_sines(kQuarterCycle, turn, cosine);
  const std::span<const double> signals[] = {x.first(fitter.frame())};
  const FrameFit fit = fitter.fit(cosine, sine, signals);
  if (fit.signals.empty()) return tone;
  for (int k = 1; k <= highest; ++k)
    tone.orders.push_back(std::abs(fit.signals[0].amplitude[static_cast<std::size_t>(k)]));
  tone.amplitude = tone.orders[0];
  tone.phase = std::arg(fit.signals[0].amplitude[1]);
  tone.residual = std::sqrt(fit.signals[0].residual_power);
  return tone;
}

}  // namespace wavicon::measure_detail
