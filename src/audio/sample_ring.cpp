// SPDX-License-Identifier: MIT
#include "wavicon/audio/sample_ring.hpp"

#include <algorithm>
#include <bit>

#include "wavicon/audio/error.hpp"

namespace wavicon {

SampleRing::SampleRing(int channel_count, std::int64_t frames) : channel_count_(channel_count) {
  if (channel_count < 1 || frames < 1)
    throw Error(ErrorCode::bad_argument, "a ring of samples has at least one channel and one frame");
  // Twice, so that what is read is not overtaken.
  capacity_ = static_cast<std::int64_t>(std::bit_ceil(static_cast<std::uint64_t>(2 * frames)));
  samples_ = std::make_unique<std::atomic<double>[]>(static_cast<std::size_t>(capacity_ * channel_count));
}

template <typename At>
void SampleRing::write_from(std::int64_t frames, At&& at) noexcept {
  const std::int64_t begin = written_.load(std::memory_order_relaxed);
  // Of more than there is room for, the last counts.
  const std::int64_t skipped = std::max<std::int64_t>(0, frames - capacity_);
  claimed_.store(begin + frames, std::memory_order_relaxed);
  std::atomic_thread_fence(std::memory_order_release);
  for (int c = 0; c < channel_count_; ++c) {
    std::atomic<double>* const channel = samples_.get() + c * capacity_;
    for (std::int64_t n = skipped; n < frames; ++n)
      channel[(begin + n) & (capacity_ - 1)].store(static_cast<double>(at(c, n)), std::memory_order_relaxed);
  }
  written_.store(begin + frames, std::memory_order_release);
}

void SampleRing::write(const float* const* planar, std::int64_t frames) noexcept {
  write_from(frames, [planar](int c, std::int64_t n) { return planar[c][n]; });
}
void SampleRing::write(const double* const* planar, std::int64_t frames) noexcept {
  write_from(frames, [planar](int c, std::int64_t n) { return planar[c][n]; });
}
void SampleRing::write_interleaved(const float* samples, std::int64_t frames) noexcept {
  write_from(frames,
             [samples, count = channel_count_](int c, std::int64_t n) { return samples[n * count + c]; });
}
void SampleRing::write_interleaved(const double* samples, std::int64_t frames) noexcept {
  write_from(frames,
             [samples, count = channel_count_](int c, std::int64_t n) { return samples[n * count + c]; });
}

bool SampleRing::read(int channel, std::int64_t first, std::span<double> samples) const noexcept {
  const auto frames = static_cast<std::int64_t>(samples.size());
  if (channel < 0 || channel >= channel_count_ || first < 0 || first + frames > written()) return false;
  const std::atomic<double>* const from = samples_.get() + channel * capacity_;
  for (std::int64_t n = 0; n < frames; ++n)
    samples[static_cast<std::size_t>(n)] =
        from[(first + n) & (capacity_ - 1)].load(std::memory_order_relaxed);
  std::atomic_thread_fence(std::memory_order_acquire);
  return first >= claimed_.load(std::memory_order_relaxed) - capacity_;
}

}  // namespace wavicon
