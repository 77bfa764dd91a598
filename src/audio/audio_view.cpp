// SPDX-License-Identifier: MIT
#include "wavicon/audio/audio_view.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

template <typename T>
std::vector<const void*> starts_of(std::span<const T* const> channels) {
  return {channels.begin(), channels.end()};
}

template <typename T>
std::vector<const void*> starts_within(std::span<const T> samples, int channel_count) {
  if (channel_count < 1 || samples.size() % static_cast<std::size_t>(channel_count) != 0)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} interleaved samples are no whole frames of {} channels", samples.size(),
                            channel_count));
  std::vector<const void*> starts;
  for (int c = 0; c < channel_count; ++c) starts.push_back(samples.data() + c);
  return starts;
}

template <typename T>
void copy(const void* from, std::int64_t stride, std::int64_t first, std::span<double> samples) {
  const T* const channel = static_cast<const T*>(from) + first * stride;
  for (std::size_t n = 0; n < samples.size(); ++n)
    samples[n] = static_cast<double>(channel[static_cast<std::int64_t>(n) * stride]);
}

}  // namespace

AudioView::AudioView(std::vector<const void*> channels, std::int64_t stride, std::int64_t frames,
                     double sample_rate_hz, bool is_float)
    : channels_(std::move(channels)),
      stride_(stride),
      frames_(frames),
      sample_rate_hz_(sample_rate_hz),
      channel_count_(static_cast<int>(channels_.size())),
      is_float_(is_float) {
  if (!(sample_rate_hz > 0) || channels_.empty() || frames < 0)
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("audio has a rate above 0, at least one channel and no fewer than 0 frames, not {:g} "
                    "Hz, {} channels, {} frames",
                    sample_rate_hz, channels_.size(), frames));
}

AudioView::AudioView(std::span<const float* const> channels, std::int64_t frames, double sample_rate_hz)
    : AudioView(starts_of(channels), 1, frames, sample_rate_hz, true) {}
AudioView::AudioView(std::span<const double* const> channels, std::int64_t frames, double sample_rate_hz)
    : AudioView(starts_of(channels), 1, frames, sample_rate_hz, false) {}

AudioView AudioView::interleaved(std::span<const float> samples, int channel_count, double sample_rate_hz) {
  auto starts = starts_within(samples, channel_count);
  return {std::move(starts), channel_count, static_cast<std::int64_t>(samples.size()) / channel_count,
          sample_rate_hz, true};
}
AudioView AudioView::interleaved(std::span<const double> samples, int channel_count, double sample_rate_hz) {
  auto starts = starts_within(samples, channel_count);
  return {std::move(starts), channel_count, static_cast<std::int64_t>(samples.size()) / channel_count,
          sample_rate_hz, false};
}

void AudioView::read(int channel, std::int64_t first_frame, std::span<double> samples) const {
  std::fill(samples.begin(), samples.end(), 0.0);
  const auto count = static_cast<std::int64_t>(samples.size());
  const std::int64_t first = std::max<std::int64_t>(first_frame, 0);
  const std::int64_t end = std::min(first_frame + count, frames_);
  if (channel < 0 || channel >= channel_count_ || first >= end) return;
  const auto there =
      samples.subspan(static_cast<std::size_t>(first - first_frame), static_cast<std::size_t>(end - first));
  const void* const from = channels_[static_cast<std::size_t>(channel)];
  if (is_float_)
    copy<float>(from, stride_, first, there);
  else
    copy<double>(from, stride_, first, there);
}

void ViewSource::read(std::int64_t first_frame, std::span<double> planar) {
  const std::size_t frames = planar.size() / static_cast<std::size_t>(view_.channel_count());
  for (int c = 0; c < view_.channel_count(); ++c)
    view_.read(c, first_frame, planar.subspan(static_cast<std::size_t>(c) * frames, frames));
}

}  // namespace wavicon
