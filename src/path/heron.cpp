// SPDX-License-Identifier: MIT
#include "path/heron.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::stand_in {
namespace {

constexpr double kNone = -200;       // dB: the lowest value of a setting switches it off
constexpr std::int64_t kReach = 64;  // frames that reading between samples looks around, and some

double ratio_or_none(double db) { return db > kNone ? ratio_from_db(db) : 0; }

}  // namespace

Heron::Heron(const HeronSettings& settings, double sample_rate_hz, int channel_count)
    : settings_(settings),
      rate_(sample_rate_hz),
      gain_(ratio_from_db(settings.gain_db) * (settings.invert ? -1 : 1)),
      noise_(ratio_or_none(settings.noise_dbfs)),
      clip_(ratio_from_db(settings.clip_dbfs)),
      crosstalk_(ratio_or_none(settings.crosstalk_db)),
      lines_{ratio_or_none(settings.hum_dbfs), ratio_or_none(settings.hum_dbfs) * ratio_from_db(-14),
             ratio_or_none(settings.hum_dbfs) * ratio_from_db(-8)},
      whole_delay_(settings.drift_ppm == 0 && settings.delay_samples == std::floor(settings.delay_samples)),
      history_(static_cast<std::size_t>(channel_count)),
      delayed_(static_cast<std::size_t>(channel_count)),
      smooth_(settings.corner_hz > 0
                  ? -exponential_minus_one(-2 * std::numbers::pi * settings.corner_hz / sample_rate_hz)
                  : 1),
      smoothed_(static_cast<std::size_t>(channel_count), 0.0) {}

void Heron::read_delayed(std::size_t channel, int frames) {
  auto& out = delayed_[channel];
  out.assign(static_cast<std::size_t>(frames), 0.0);
  const auto& past = history_[channel];
  if (!whole_delay_) {
    // Capture frame m holds what was played at (m - delay)/(1 + drift).
    const double step = 1 / (1 + settings_.drift_ppm * 1e-6);
    reader_.read(
        past,
        (static_cast<double>(frame_) - settings_.delay_samples) * step - static_cast<double>(first_kept_),
        step, out);
    return;
  }
  const auto shift = static_cast<std::int64_t>(settings_.delay_samples);
  for (std::int64_t n = 0; n < frames; ++n) {
    const std::int64_t at = frame_ + n - shift - first_kept_;
    if (at >= 0) out[static_cast<std::size_t>(n)] = past[static_cast<std::size_t>(at)];
  }
}

void Heron::run(const float* const* in, float* const* out, int frames) {
  const std::size_t channels = history_.size();
  for (std::size_t c = 0; c < channels; ++c) {
    history_[c].insert(history_[c].end(), in[c], in[c] + frames);
    read_delayed(c, frames);
    if (smooth_ < 1)
      for (double& x : delayed_[c]) x = smoothed_[c] += smooth_ * (x - smoothed_[c]);
  }
  // What no later frame looks back at is dropped, now and then.
  const double oldest =
      (static_cast<double>(frame_) - settings_.delay_samples) / (1 + settings_.drift_ppm * 1e-6);
  const std::int64_t unused = static_cast<std::int64_t>(std::floor(oldest)) - kReach - first_kept_;
  if (unused > 65536) {
    for (auto& past : history_) past.erase(past.begin(), past.begin() + unused);
    first_kept_ += unused;
  }
  const double noise_scale = noise_ * std::sqrt(12.0);
  for (int n = 0; n < frames; ++n) {
    const auto frame = static_cast<std::uint64_t>(frame_ + n);
    double sum = 0, hum = 0;
    for (const auto& x : delayed_) sum += x[static_cast<std::size_t>(n)];
    for (std::uint64_t k = 0; k < 3 && lines_[0] > 0; ++k)
      hum += lines_[k] * sine(phase_step(static_cast<double>(k + 1) * settings_.mains_hz, rate_) * frame);
    for (std::size_t c = 0; c < channels; ++c) {
      const double own = delayed_[c][static_cast<std::size_t>(n)];
      const double noise =
          noise_scale * (random_uniform(static_cast<std::uint64_t>(settings_.seed), c, frame) - 0.5);
      const double y = gain_ * (own + crosstalk_ * (sum - own)) + settings_.dc + hum + noise;
      out[c][n] = static_cast<float>(std::clamp(y, -clip_, clip_));
    }
  }
  frame_ += frames;
}

}  // namespace wavicon::stand_in
