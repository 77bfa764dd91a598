// SPDX-License-Identifier: MIT
#include "measure/aliasing/products.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/harmonics/methods.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon::measure_detail {

void require_valid(const AliasingOptions& options) {
  if (options.highest_order < 2 || options.highest_order > 120)
    throw Error(ErrorCode::bad_argument,
                fmt::format("orders up to {} are not within 2 to 120", options.highest_order));
  if (!(options.band_from_hz >= 0 && options.band_to_hz > options.band_from_hz))
    throw Error(ErrorCode::bad_argument,
                fmt::format("the band from {} to {} Hz is empty", options.band_from_hz, options.band_to_hz));
}

void find_products(const AliasingResult& result, double floor_ratio, ChannelAliasing& channel) {
  const int highest = result.options.highest_order;
  const double rate = result.sample_rate_hz, stands_out = floor_ratio * ratio_from_db(10);
  std::vector<FoldedOrder> worst(static_cast<std::size_t>(highest) + 1);
  std::vector<double> last(worst.size(), 0.0);
  for (const AliasingFrame& frame : channel.frames) {
    if (frame.fundamental <= 0) continue;
    double sum = 0;
    for (int k = 2; k <= highest; ++k) {
      const auto at = static_cast<std::size_t>(k);
      const double hz = k * frame.tone_hz, own_hz = folded_hz(hz, rate),
                   ratio = frame.amplitude[at] / frame.fundamental;
      const bool bound = !frame.bound.empty() && frame.bound[at];
      if (hz <= rate / 2) {
        if (frame.valid[at] && !bound && ratio > channel.harmonic.ratio)
          channel.harmonic = {k, hz, frame.tone_hz, frame.amplitude[at], ratio, 0, 0, false};
        continue;
      }
      if (own_hz < result.options.band_from_hz || own_hz > result.band_to_hz) {
        last[at] = 0;
        continue;
      }
      // Where an order crosses another one, what it was just before counts in the sum; steps have no before.
      if (frame.valid[at] || result.steps) last[at] = frame.valid[at] && !bound ? frame.amplitude[at] : 0;
      sum += last[at] * last[at];
      if (!frame.valid[at]) continue;
      FoldedOrder& order = worst[at];
      const FoldedOrder before = order;
      // A value goes before a bound.
      const bool stronger = order.ratio == 0 || order.bound == bound ? ratio > order.ratio : order.bound;
      if (stronger)
        order = {k, own_hz, frame.tone_hz, frame.amplitude[at], ratio, before.from_hz, before.to_hz, bound};
      if (ratio > stands_out && !bound) {
        order.from_hz = order.from_hz == 0 ? frame.tone_hz : std::min(order.from_hz, frame.tone_hz);
        order.to_hz = std::max(order.to_hz, frame.tone_hz);
      }
    }
    const double total = std::sqrt(sum);
    if (total / frame.fundamental > channel.total.ratio)
      channel.total = {0, 0, frame.tone_hz, total, total / frame.fundamental, 0, 0, false};
  }
  for (const FoldedOrder& order : worst)
    if (order.ratio > 0) channel.folded.push_back(order);
  std::sort(channel.folded.begin(), channel.folded.end(),
            [](const auto& a, const auto& b) { return a.bound != b.bound ? b.bound : a.ratio > b.ratio; });
}

}  // namespace wavicon::measure_detail
