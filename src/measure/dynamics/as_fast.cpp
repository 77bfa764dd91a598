// SPDX-License-Identifier: MIT
#include "wavicon/measure/dynamics/as_fast.hpp"

#include <algorithm>
#include <cmath>

namespace wavicon {
namespace {

// The panel's value between two rungs, by a power of it and in a straight line.
struct Between {
  const RungTime &low, &high;
  [[nodiscard]] double straight(double time_s) const {
    const double share = (time_s - low.time_s) / (high.time_s - low.time_s);
    return low.panel_ms + share * (high.panel_ms - low.panel_ms);
  }
  [[nodiscard]] double by_power(double time_s) const {
    if (!(low.panel_ms > 0)) return straight(time_s);
    const double share = std::log(time_s / low.time_s) / std::log(high.time_s / low.time_s);
    return low.panel_ms * std::pow(high.panel_ms / low.panel_ms, share);
  }
};

}  // namespace

std::optional<AsFast> as_fast_as(std::span<const RungTime> rungs, double time_s, double uncertainty_s) {
  if (rungs.size() < 2 || !(time_s > 0)) return std::nullopt;
  for (std::size_t i = 1; i < rungs.size(); ++i) {
    const double sure = std::hypot(rungs[i].uncertainty_s, rungs[i - 1].uncertainty_s);
    if (!(rungs[i].time_s - rungs[i - 1].time_s > sure) || !(rungs[i - 1].time_s > 0)) return std::nullopt;
  }
  const auto above = static_cast<std::size_t>(
      std::find_if(rungs.begin(), rungs.end(), [&](const RungTime& r) { return r.time_s >= time_s; }) -
      rungs.begin());
  // Beside the ends a time may still be that of the end itself.
  const auto beside = [&](const RungTime& end) {
    return std::abs(time_s - end.time_s) <= std::hypot(uncertainty_s, end.uncertainty_s);
  };
  if (above == 0 && !beside(rungs.front()))
    return AsFast{.panel_ms = rungs.front().panel_ms,
                  .below_ms = rungs.front().panel_ms,
                  .above_ms = rungs.front().panel_ms,
                  .faster = true};
  if (above == rungs.size() && !beside(rungs.back()))
    return AsFast{.panel_ms = rungs.back().panel_ms,
                  .below_ms = rungs.back().panel_ms,
                  .above_ms = rungs.back().panel_ms,
                  .slower = true};
  const std::size_t high = std::clamp<std::size_t>(above, 1, rungs.size() - 1);
  const RungTime &p = rungs[high - 1], &q = rungs[high];
  const Between between{p, q};
  const double at = std::clamp(time_s, p.time_s, q.time_s),
               slope = (q.panel_ms - p.panel_ms) / (q.time_s - p.time_s),
               share = (at - p.time_s) / (q.time_s - p.time_s);
  AsFast found{.panel_ms = between.by_power(at), .below_ms = p.panel_ms, .above_ms = q.panel_ms};
  found.uncertainty_ms =
      std::hypot(slope * std::hypot(uncertainty_s, (1 - share) * p.uncertainty_s, share * q.uncertainty_s),
                 found.panel_ms - between.straight(at));
  return found;
}

}  // namespace wavicon
