// SPDX-License-Identifier: MIT
#include "measure/common/power_spread.hpp"

#include <algorithm>

namespace wavicon::measure_detail {
namespace {

constexpr std::int64_t kSummed = 16;  // windows whose squares are summed: beyond, each one adds its hop

}  // namespace

PowerSpread::PowerSpread(const WelchPlan& plan, std::int64_t frames, std::span<const double> window) {
  const auto hop = static_cast<std::int64_t>(plan.hop);
  const std::int64_t windows = (frames - static_cast<std::int64_t>(plan.frames)) / hop + 1,
                     summed = std::clamp<std::int64_t>(windows, 1, kSummed);
  std::vector<double> sums(plan.frames + static_cast<std::size_t>((summed - 1) * hop), 0.0);
  for (std::int64_t w = 0; w < summed; ++w)
    for (std::size_t n = 0; n < plan.frames; ++n)
      sums[static_cast<std::size_t>(w * hop) + n] += window[n] * window[n];
  double sum = 0, squares = 0;
  for (const double v : sums) {
    sum += v;
    squares += v * v;
  }
  seconds_ = (sum * sum / squares + static_cast<double>(std::max<std::int64_t>(0, windows - summed) * hop)) /
             plan.rate;
  averages_ = std::max(1.0, seconds_ * plan.noise_bins * plan.rate / static_cast<double>(plan.frames));
}

}  // namespace wavicon::measure_detail
