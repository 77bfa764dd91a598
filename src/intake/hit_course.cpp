// SPDX-License-Identifier: MIT
// What the delays of a row of hits do over time.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "delay_line.hpp"
#include "samples.hpp"
#include "wavicon/intake/hits.hpp"

namespace wavicon {
namespace {

constexpr double kSteady = 0.02;     // samples of spread
constexpr double kOwnSpread = 3;     // times what the delays' own uncertainty makes
constexpr double kAnyPlace = 1.4;    // times as plain: of many places one is chosen
constexpr double kLeavesLess = 0.5;  // of the spread
constexpr std::size_t kMostJumps = 8;
constexpr std::size_t kLeastBetween = 2;  // hits between two jumps

using Values = std::vector<double>;

double mean_of(const Values& y, std::size_t first, std::size_t end) {
  return std::accumulate(y.begin() + static_cast<std::ptrdiff_t>(first),
                         y.begin() + static_cast<std::ptrdiff_t>(end), 0.0) /
         static_cast<double>(end - first);
}

double squares_of(const Values& y) { return intake_detail::energy(y); }

double deviation(const Values& off, double freedom) {
  return std::sqrt(squares_of(off) / std::max(1.0, freedom));
}

// What is left of the means between jumps.
Values off_steps(const Values& y, const std::vector<std::size_t>& jumps) {
  Values off(y.size());
  std::size_t first = 0;
  for (std::size_t i = 0; i <= jumps.size(); ++i) {
    const std::size_t end = i < jumps.size() ? jumps[i] : y.size();
    const double mean = mean_of(y, first, end);
    for (std::size_t n = first; n < end; ++n) off[n] = y[n] - mean;
    first = end;
  }
  return off;
}

// The jump between two places that leaves least, when it stands out of what it leaves.
std::optional<std::size_t> jump_between(const Values& y, std::size_t first, std::size_t end, double least) {
  std::optional<std::size_t> best;
  double left = 1e300;
  for (std::size_t at = first + kLeastBetween; at + kLeastBetween <= end; ++at) {
    const double low = mean_of(y, first, at), high = mean_of(y, at, end);
    double sum = 0;
    for (std::size_t n = first; n < end; ++n) sum += std::pow(y[n] - (n < at ? low : high), 2);
    if (sum >= left) continue;
    left = sum;
    best = at;
  }
  if (!best) return best;
  const double before = static_cast<double>(*best - first), after = static_cast<double>(end - *best),
               scatter = std::sqrt(left / std::max(1.0, before + after - 2)),
               step = std::abs(mean_of(y, *best, end) - mean_of(y, first, *best));
  if (step < least ||
      step < kAnyPlace * intake_detail::surely(end - first - 2) * scatter * std::sqrt(1 / before + 1 / after))
    return std::nullopt;
  return best;
}

void find_jumps(const Values& y, std::size_t first, std::size_t end, double least,
                std::vector<std::size_t>& jumps) {
  if (jumps.size() >= kMostJumps) return;
  const auto at = jump_between(y, first, end, least);
  if (!at) return;
  jumps.push_back(*at);
  find_jumps(y, first, *at, least, jumps);
  find_jumps(y, *at, end, least, jumps);
}

}  // namespace

HitLatencies judge_hits(std::vector<HitDelay> hits, int looked) {
  HitLatencies result{.looked = looked};
  const auto count = static_cast<double>(hits.size());
  Values x, y;
  double own = 0;
  for (const HitDelay& hit : hits) {
    x.push_back(static_cast<double>(hit.first_frame));
    y.push_back(hit.delay_frames);
    own += hit.uncertainty_frames * hit.uncertainty_frames / 4 / count;
  }
  result.hits = std::move(hits);
  if (y.empty()) return result;
  const double least = std::max(kSteady, kOwnSpread * std::sqrt(own));
  result.off_samples = off_steps(y, {});
  const double spread = deviation(result.off_samples, count - 1);
  if (spread > least) {
    result.course = HitCourse::jitters;
    double left = kLeavesLess * spread;
    const double middle = mean_of(x, 0, x.size()), height = mean_of(y, 0, y.size());
    double xx = 0, xy = 0;
    for (std::size_t n = 0; n < x.size(); ++n) {
      xx += (x[n] - middle) * (x[n] - middle);
      xy += (x[n] - middle) * (y[n] - height);
    }
    Values off(y.size());
    for (std::size_t n = 0; n < y.size(); ++n) off[n] = y[n] - height - xy / xx * (x[n] - middle);
    const double beside = deviation(off, count - 2);
    if (xx > 0 && beside < left &&
        std::abs(xy / xx) > intake_detail::surely(y.size() - 2) * beside / std::sqrt(xx)) {
      result.course = HitCourse::drifts;
      result.off_samples = off;
      result.drift_ppm = 1e6 * xy / xx;
      result.at_start_frames = height - xy / xx * middle;
      result.at_start_uncertainty_frames =
          2 * std::max(beside, std::sqrt(own)) * std::sqrt(1 / count + middle * middle / xx);
      left = beside;
    }
    std::vector<std::size_t> jumps;
    find_jumps(y, 0, y.size(), least, jumps);
    std::sort(jumps.begin(), jumps.end());
    const Values stepped = off_steps(y, jumps);
    if (!jumps.empty() && deviation(stepped, count - 1 - static_cast<double>(jumps.size())) < left) {
      result.course = HitCourse::jumps;
      result.off_samples = stepped;
      result.jumps = jumps;
      std::size_t first = 0;
      for (std::size_t i = 0; i < jumps.size(); ++i) {
        const std::size_t end = i + 1 < jumps.size() ? jumps[i + 1] : y.size();
        result.jump_samples.push_back(mean_of(y, jumps[i], end) - mean_of(y, first, jumps[i]));
        first = jumps[i];
      }
    }
  }
  const auto worst = std::max_element(result.off_samples.begin(), result.off_samples.end(),
                                      [](double p, double q) { return std::abs(p) < std::abs(q); });
  result.worst = static_cast<std::size_t>(worst - result.off_samples.begin());
  return result;
}

}  // namespace wavicon
