// SPDX-License-Identifier: MIT
#include "wavicon/intake/stream_gate.hpp"

#include <algorithm>
#include <utility>

#include "judging.hpp"

namespace wavicon {

struct StreamGate::Impl {
  HealthMeter meter;
  HealthResult health;
  GatePolicy policy;
  int channel_count;
};

StreamGate::StreamGate(int channel_count, double sample_rate_hz, SampleFormat format, GatePolicy policy)
    : impl_(std::make_unique<Impl>(
          Impl{HealthMeter(channel_count, sample_rate_hz, format), {}, std::move(policy), channel_count})) {
  // Nothing is measured after a stream's end that could decide on it.
  impl_->policy.hold_faults = false;
  impl_->health.format = format;
  impl_->health.sample_rate_hz = sample_rate_hz;
}
StreamGate::~StreamGate() = default;
StreamGate::StreamGate(StreamGate&&) noexcept = default;
StreamGate& StreamGate::operator=(StreamGate&&) noexcept = default;

void StreamGate::push(std::span<const double> planar) {
  impl_->meter.push(planar);
  impl_->health.frames += static_cast<std::int64_t>(planar.size()) / impl_->channel_count;
}

std::vector<Finding> StreamGate::finish() {
  HealthResult& health = impl_->health;
  if (health.frames == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  health.channels = impl_->meter.finish();
  health.same_on_all_channels =
      health.channels.size() > 1 && std::all_of(health.channels.begin(), health.channels.end(),
                                                [](const ChannelHealth& c) { return c.same_as_first; });
  intake_detail::refuse_broken_samples(health);
  std::vector<Finding> held;
  return intake_detail::let_through(health_sheet(health, {}).findings, impl_->policy, held);
}

}  // namespace wavicon
