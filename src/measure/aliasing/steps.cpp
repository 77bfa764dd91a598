// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/aliasing/products.hpp"
#include "measure/harmonics/harmonics_of.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kSettleS = 0.1;       // left out at the start of a step, for what rings
constexpr double kMostSettled = 0.25;  // of the step
constexpr int kMostOrders = 100;       // beyond it every band is full of folded ones

AliasingFrame frame_of(const ChannelHarmonics& tone, int highest) {
  AliasingFrame frame{.tone_hz = tone.fundamental_hz, .fundamental = tone.fundamental_amplitude};
  const auto size = static_cast<std::size_t>(highest) + 1;
  frame.amplitude.assign(size, 0.0);
  frame.valid.assign(size, false);
  frame.bound.assign(size, false);
  frame.uncertainty.assign(size, 0.0);
  frame.amplitude[1] = tone.fundamental_amplitude;
  frame.valid[1] = true;
  for (const HarmonicOrder& order : tone.orders) {
    const auto at = static_cast<std::size_t>(order.order);
    frame.amplitude[at] = order.amplitude;
    frame.valid[at] = !order.hidden;
    frame.bound[at] = order.bound;
    if (!order.bound) frame.uncertainty[at] = order.amplitude * (ratio_from_db(order.uncertainty_db) - 1);
  }
  return frame;
}

}  // namespace

AliasingResult measure_aliasing_steps(const JudgedCapture& judged, std::size_t part,
                                      const AliasingOptions& options) {
  AudioSource& capture = judged.source();
  Stimulus& stimulus = judged.stimulus();
  const Take& take = judged.take();
  if (part >= stimulus.recipe().parts.size() ||
      !std::holds_alternative<Staircase>(stimulus.recipe().parts[part].kind))
    throw Error(ErrorCode::bad_argument, "fold-back by steps is measured on a part that is a staircase");
  require_valid(options);
  const auto& staircase = std::get<Staircase>(stimulus.recipe().parts[part].kind);
  const double rate = capture.sample_rate_hz(), stimulus_rate = stimulus.recipe().sample_rate_hz;
  AliasingResult result;
  result.options = options;
  result.options.highest_order = std::min(options.highest_order, kMostOrders);
  result.sample_rate_hz = rate;
  result.band_to_hz = std::min(options.band_to_hz, rate / 2);
  result.steps = true;
  result.from_hz = rate;
  result.channels.resize(static_cast<std::size_t>(capture.channel_count()));
  ChannelAliasing clean;
  for (const StaircaseStep& step : staircase_steps(staircase, stimulus_rate)) {
    const double settle = std::min(kSettleS * stimulus_rate, kMostSettled * static_cast<double>(step.frames));
    const auto at = [&](double stimulus_frame) {
      return std::llround(take.first_frame +
                          (static_cast<double>(stimulus.parts()[part].first_frame) + stimulus_frame) *
                              take.frames_per_frame);
    };
    const std::int64_t first = at(static_cast<double>(step.first_frame) + settle),
                       end = at(static_cast<double>(step.first_frame + step.frames));
    if (first < 0 || end > capture.frames())
      throw Error(ErrorCode::bad_input,
                  fmt::format("the capture does not hold the whole step of {:g} Hz", step.frequency_hz));
    result.frame_s = static_cast<double>(end - first) / rate;
    const HarmonicsResult tone = harmonics_of(
        read_stretch(capture, first, end - first),
        {.tone_hz = step.frequency_hz * take.rate_ratio, .highest_order = result.options.highest_order},
        judged.format(), static_cast<double>(first) / rate);
    for (std::size_t c = 0; c < tone.channels.size(); ++c) {
      if (tone.channels[c].state != ChannelHarmonics::State::measured) continue;
      ChannelAliasing& channel = result.channels[c];
      channel.measured = true;
      channel.frames.push_back(frame_of(tone.channels[c], result.options.highest_order));
      channel.fundamental = std::max(channel.fundamental, channel.frames.back().fundamental);
      result.from_hz = std::min(result.from_hz, channel.frames.back().tone_hz);
      result.to_hz = std::max(result.to_hz, channel.frames.back().tone_hz);
      AliasingFrame floor = frame_of(tone.floors[c], result.options.highest_order);
      floor.bound.clear();  // a floor is what would be read
      clean.frames.push_back(std::move(floor));
    }
  }
  find_products(result, 0, clean);
  result.floor_ratio = clean.folded.empty() ? 0 : clean.folded.front().ratio;
  result.floor_sum_ratio = clean.total.ratio;
  for (ChannelAliasing& channel : result.channels)
    if (channel.measured) find_products(result, result.floor_ratio, channel);
  return result;
}

}  // namespace wavicon
