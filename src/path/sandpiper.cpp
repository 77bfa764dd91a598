// SPDX-License-Identifier: MIT
#include "path/sandpiper.hpp"

#include <algorithm>
#include <cmath>

#include "wavicon/audio/decibels.hpp"

namespace wavicon::stand_in {

Sandpiper::Sandpiper(const SandpiperSettings& settings, double sample_rate_hz)
    : settings_(settings),
      rate_(sample_rate_hz),
      gain_(ratio_from_db(settings.level_db) * (settings.invert ? -1 : 1)),
      clip_(settings.clips ? ratio_from_db(settings.clip_dbfs) : HUGE_VAL),
      look_ahead_(std::llround(settings.lose_frames)),
      history_(static_cast<std::size_t>(look_ahead_ + std::llround(settings.repeat_frames)) + 1, 0.0F) {}

float Sandpiper::source(std::int64_t frame) const noexcept {
  if (frame < 0) return 0.0F;
  return history_[static_cast<std::size_t>(frame % static_cast<std::int64_t>(history_.size()))];
}

void Sandpiper::run(const float* in, float* out, int frames) noexcept {
  const auto size = static_cast<std::int64_t>(history_.size());
  for (int n = 0; n < frames; ++n, ++written_, ++frame_) {
    history_[static_cast<std::size_t>(written_ % size)] = in[n];
    // Times count on the output as it leaves once the look-ahead is taken off.
    const std::int64_t at = frame_ - look_ahead_;
    std::int64_t from = at;
    if (settings_.lose_frames > 0 && at >= std::llround(settings_.lose_at_s * rate_)) from += look_ahead_;
    const std::int64_t repeat = std::llround(settings_.repeat_frames),
                       again = at - std::llround(settings_.repeat_at_s * rate_);
    if (repeat > 0 && again >= 0 && (again < repeat || !settings_.in_place)) from -= repeat;
    double x = source(from);
    const std::int64_t drop = std::llround(settings_.drop_at_s * rate_);
    if (at >= drop && at < drop + std::llround(settings_.drop_frames)) x = 0;
    out[n] = static_cast<float>(gain_ * std::clamp(x, -clip_, clip_));
  }
}

}  // namespace wavicon::stand_in
