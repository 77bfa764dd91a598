// SPDX-License-Identifier: MIT
#pragma once
// The newest samples of what comes in: written by one thread that may not wait, read by others.

#include <atomic>
#include <cstdint>
#include <memory>
#include <span>

#include "wavicon/audio/export.hpp"

namespace wavicon {

class WAVICON_EXPORT SampleRing {
 public:
  /// @param frames  that stay at least; memory is taken here and nowhere else. @throws Error bad_argument for
  /// no channel or no frame.
  SampleRing(int channel_count, std::int64_t frames);

  /// One block behind the last one. For one thread at a time; allocates, locks and waits for nothing.
  ///
  /// @param planar  a pointer for each channel.
  void write(const float* const* planar, std::int64_t frames) noexcept;
  void write(const double* const* planar, std::int64_t frames) noexcept;
  /// The same, frame after frame.
  void write_interleaved(const float* samples, std::int64_t frames) noexcept;
  void write_interleaved(const double* samples, std::int64_t frames) noexcept;

  [[nodiscard]] int channel_count() const noexcept { return channel_count_; }
  [[nodiscard]] std::int64_t capacity() const noexcept { return capacity_; }
  /// Frames that were written in all.
  [[nodiscard]] std::int64_t written() const noexcept { return written_.load(std::memory_order_acquire); }
  /// Frames first … of a channel, counted as written() counts. For any thread.
  ///
  /// @return false: they are not there yet, or no longer.
  [[nodiscard]] bool read(int channel, std::int64_t first, std::span<double> samples) const noexcept;

 private:
  template <typename At>
  void write_from(std::int64_t frames, At&& at) noexcept;

  int channel_count_;
  std::int64_t capacity_;  // a power of two
  std::unique_ptr<std::atomic<double>[]> samples_;
  std::atomic<std::int64_t> written_{0};
  std::atomic<std::int64_t> claimed_{0};  // to where is being written
};

}  // namespace wavicon
