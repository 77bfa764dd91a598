// SPDX-License-Identifier: MIT
#include "path/curlew.hpp"

#include <algorithm>
#include <cmath>

#include "wavicon/audio/decibels.hpp"

namespace wavicon::stand_in {

Curlew::Curlew(const CurlewSettings& settings, double sample_rate_hz)
    : step_(std::ldexp(1.0, 1 - static_cast<int>(settings.bits))),
      per_frame_(std::min(1.0, settings.inner_rate_hz / sample_rate_hz)),
      smooth_(1 - exponential(-2 * M_PI * 0.45 * std::min(settings.inner_rate_hz, sample_rate_hz) /
                              sample_rate_hz)),
      carrier_(settings.carrier_dbfs > -200 && settings.carrier_hz < sample_rate_hz / 2
                   ? ratio_from_db(settings.carrier_dbfs)
                   : 0),
      carrier_step_(carrier_ > 0 ? phase_step(settings.carrier_hz, sample_rate_hz) : 0) {}

void Curlew::run(const float* in, float* out, int frames) noexcept {
  for (int n = 0; n < frames; ++n, ++frame_) {
    if (due_ >= 1) {
      due_ -= 1;
      held_ = std::clamp(step_ * std::nearbyint(static_cast<double>(in[n]) / step_), -1.0, 1.0 - step_);
    }
    due_ += per_frame_;
    smoothed_ += smooth_ * (held_ - smoothed_);
    out[n] = static_cast<float>(smoothed_ + carrier_ * sine(carrier_step_ * frame_));
  }
}

}  // namespace wavicon::stand_in
