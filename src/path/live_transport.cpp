// SPDX-License-Identifier: MIT
#include <algorithm>
#include <cmath>
#include <numbers>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/path/live.hpp"

#include <fmt/format.h>

namespace wavicon {
namespace {

constexpr double kFadeS = 0.005;

void raise_to(std::atomic<float>& highest, float value) noexcept {
  if (value > highest.load(std::memory_order_relaxed)) highest.store(value, std::memory_order_release);
}

}  // namespace

LiveTransport::LiveTransport(std::vector<std::vector<float>> stimulus, int record_channels,
                             std::int64_t frames, double sample_rate_hz)
    : stimulus_(std::move(stimulus)),
      recorded_(static_cast<std::size_t>(record_channels),
                std::vector<float>(static_cast<std::size_t>(frames), 0.0F)),
      frames_(frames),
      fade_(std::llround(kFadeS * sample_rate_hz)) {
  for (auto& channel : stimulus_) {
    const auto length = static_cast<std::int64_t>(channel.size());
    for (std::int64_t n = 0; n < std::min(fade_, length / 2); ++n) {
      const auto gain = static_cast<float>(
          0.5 - 0.5 * std::cos(std::numbers::pi * static_cast<double>(n) / static_cast<double>(fade_)));
      channel[static_cast<std::size_t>(n)] *= gain;
      channel[static_cast<std::size_t>(length - 1 - n)] *= gain;
    }
  }
}

void LiveTransport::cycle(const float* const* in, float* const* out, std::int64_t frames) noexcept {
  const bool running = started_.load(std::memory_order_acquire);
  const std::int64_t at = position_.load(std::memory_order_relaxed);
  for (std::size_t c = 0; c < stimulus_.size(); ++c) {
    const auto length = static_cast<std::int64_t>(stimulus_[c].size());
    const std::int64_t count = running ? std::clamp<std::int64_t>(length - at, 0, frames) : 0;
    if (count > 0) std::copy_n(stimulus_[c].data() + at, count, out[c]);
    std::fill(out[c] + count, out[c] + frames, 0.0F);
  }
  float highest = 0;
  for (std::size_t c = 0; c < recorded_.size(); ++c) {
    for (std::int64_t n = 0; n < frames; ++n) highest = std::max(highest, std::fabs(in[c][n]));
    const std::int64_t count = running ? std::clamp<std::int64_t>(frames_ - at, 0, frames) : 0;
    if (count > 0) std::copy_n(in[c], count, recorded_[c].data() + at);
  }
  raise_to(running ? peak_ : idle_peak_, highest);
  if (running) position_.store(at + frames, std::memory_order_release);
}

LiveOptions live_options(const UnitSpec& spec) {
  LiveOptions options{.server = spec.name == "default" ? "" : spec.name};
  for (const auto& [symbol, value] : spec.settings) {
    if (symbol == "to")
      options.to = value;
    else if (symbol == "from")
      options.from = value;
    else
      throw Error(ErrorCode::bad_argument, fmt::format("jack:{} has no setting '{}'{}", spec.name, symbol,
                                                       name_hint(symbol, {"to", "from"})));
  }
  if (options.from.empty())
    throw Error(ErrorCode::bad_argument,
                "jack: says nothing of what to record: jack:SERVER?to=PORTS&from=PORTS, SERVER being "
                "'default' or its name");
  return options;
}

}  // namespace wavicon
