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

std::vector<double> without_lines(std::vector<double> density, std::size_t block) {
  constexpr double kLine = 10;  // of noise, one bin in a thousand reaches it
  std::vector<double> sorted;
  for (std::size_t first = 0; first < density.size(); first += block) {
    const auto begin = density.begin() + static_cast<std::ptrdiff_t>(first),
               end = density.begin() + static_cast<std::ptrdiff_t>(std::min(density.size(), first + block));
    sorted.assign(begin, end);
    const auto middle = sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 2);
    std::nth_element(sorted.begin(), middle, sorted.end());
    for (auto value = begin; value != end; ++value)
      if (*value > kLine * *middle) *value = *middle;
  }
  return density;
}

}  // namespace wavicon::measure_detail
