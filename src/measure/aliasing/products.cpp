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

namespace {

// Of some 25 values that are independent the highest is read high: 3.2 deviations hold it, not 2.
constexpr double kOfTheHighest = 1.7;
constexpr double kGone = 0.01;  // of the highest fundamental: nothing is ranked against less

// Where there is no fundamental to compare with, the loudest order that stands out.
void look_while_gone(const AliasingResult& result, const AliasingFrame& frame, ChannelAliasing& channel) {
  channel.gone_from_hz =
      channel.gone_from_hz == 0 ? frame.tone_hz : std::min(channel.gone_from_hz, frame.tone_hz);
  channel.gone_to_hz = std::max(channel.gone_to_hz, frame.tone_hz);
  for (int k = 2; k <= result.options.highest_order; ++k) {
    const auto at = static_cast<std::size_t>(k);
    const double own_hz = folded_hz(k * frame.tone_hz, result.sample_rate_hz);
    if (k * frame.tone_hz <= result.sample_rate_hz / 2 || own_hz < result.options.band_from_hz ||
        own_hz > result.band_to_hz || !frame.valid[at] || (!frame.bound.empty() && frame.bound[at]) ||
        frame.amplitude[at] <= channel.while_gone.amplitude)
      continue;
    channel.while_gone = {.order = k, .hz = own_hz, .at_hz = frame.tone_hz, .amplitude = frame.amplitude[at]};
  }
}

}  // namespace

void find_products(const AliasingResult& result, double floor_ratio, ChannelAliasing& channel) {
  const int highest = result.options.highest_order;
  const double rate = result.sample_rate_hz, stands_out = result.steps ? floor_ratio * ratio_from_db(10) : 0;
  std::vector<FoldedOrder> worst(static_cast<std::size_t>(highest) + 1);
  std::vector<double> last(worst.size(), 0.0);
  double loudest = 0;
  for (const AliasingFrame& frame : channel.frames) loudest = std::max(loudest, frame.fundamental);
  for (const AliasingFrame& frame : channel.frames) {
    if (frame.fundamental <= 0) continue;
    if (!result.steps && frame.fundamental < kGone * loudest) {
      look_while_gone(result, frame, channel);
      continue;
    }
    double sum = 0;
    for (int k = 2; k <= highest; ++k) {
      const auto at = static_cast<std::size_t>(k);
      const double hz = k * frame.tone_hz, own_hz = folded_hz(hz, rate),
                   ratio = frame.amplitude[at] / frame.fundamental;
      const bool bound = !frame.bound.empty() && frame.bound[at];
      if (hz <= rate / 2) {
        if (frame.valid[at] && !bound && ratio > channel.harmonic.ratio) {
          channel.harmonic = {k, hz, frame.tone_hz, frame.amplitude[at], ratio, 0, 0, false};
          if (!frame.uncertainty.empty())
            channel.harmonic.uncertainty_db =
                db_from_ratio(1 + kOfTheHighest * frame.uncertainty[at] / frame.amplitude[at]);
        }
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
      const double surely =
          bound || frame.sigma.empty() ? ratio : ratio - 2 * frame.sigma[at] / frame.fundamental;
      const bool stronger = order.ratio == 0 || order.bound == bound ? surely > order.surely : order.bound;
      if (stronger) {
        order = {k, own_hz, frame.tone_hz, frame.amplitude[at], ratio, before.from_hz, before.to_hz, bound};
        order.surely = surely;
        if (!bound && !frame.uncertainty.empty())
          order.uncertainty_db =
              db_from_ratio(1 + kOfTheHighest * frame.uncertainty[at] / frame.amplitude[at]);
      }
      if (ratio > stands_out && !bound) {
        order.from_hz = order.from_hz == 0 ? frame.tone_hz : std::min(order.from_hz, frame.tone_hz);
        order.to_hz = std::max(order.to_hz, frame.tone_hz);
      }
    }
    const double total = std::sqrt(sum);
    if (total / frame.fundamental > channel.total.ratio) {
      channel.total = {0, 0, frame.tone_hz, total, total / frame.fundamental, 0, 0, false};
      // Of a root of squares: each amplitude counts by its share.
      double moved = 0;
      for (std::size_t k = 2; k < frame.uncertainty.size(); ++k)
        if (frame.valid[k] && last[k] > 0) moved += std::pow(last[k] * frame.uncertainty[k], 2);
      if (total > 0 && !frame.uncertainty.empty())
        channel.total.uncertainty_db = db_from_ratio(1 + kOfTheHighest * std::sqrt(moved) / (total * total));
    }
  }
  for (const FoldedOrder& order : worst)
    if (order.ratio > 0) channel.folded.push_back(order);
  std::sort(channel.folded.begin(), channel.folded.end(),
            [](const auto& a, const auto& b) { return a.bound != b.bound ? b.bound : a.surely > b.surely; });
}

}  // namespace wavicon::measure_detail
