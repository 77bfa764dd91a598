// SPDX-License-Identifier: MIT
#pragma once
// Samples wherever they lie, read stretch by stretch: what long captures are measured through, in memory that
// does not grow with them.

#include <cstdint>
#include <span>
#include <utility>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Frames × channels that can be read from any frame on. For one thread at a time.
class WAVICON_EXPORT AudioSource {
 public:
  AudioSource() = default;
  AudioSource(const AudioSource&) = delete;
  AudioSource& operator=(const AudioSource&) = delete;
  virtual ~AudioSource() = default;

  [[nodiscard]] virtual double sample_rate_hz() const noexcept = 0;
  [[nodiscard]] virtual int channel_count() const noexcept = 0;
  [[nodiscard]] virtual std::int64_t frames() const noexcept = 0;

  /// Frames first_frame … of every channel, one channel after the other; what is outside of the audio is
  /// silence. Reading on where the last call ended is the fast way.
  ///
  /// @param planar  channel_count() runs of the same length: that many frames are read.
  /// @throws Error bad_input when a file cannot be decoded.
  virtual void read(std::int64_t first_frame, std::span<double> planar) = 0;
};

/// Audio in memory as a source; the audio outlives it.
class WAVICON_EXPORT MemorySource : public AudioSource {
 public:
  explicit MemorySource(const Audio& audio) : audio_(audio) {}
  [[nodiscard]] double sample_rate_hz() const noexcept override { return audio_.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return audio_.channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return audio_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  const Audio& audio_;
};

/// Audio that goes with its source.
class WAVICON_EXPORT OwnedSource : public AudioSource {
 public:
  explicit OwnedSource(Audio audio) : audio_(std::move(audio)), source_(audio_) {}
  [[nodiscard]] double sample_rate_hz() const noexcept override { return audio_.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return audio_.channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return audio_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override {
    source_.read(first_frame, planar);
  }

 private:
  Audio audio_;
  MemorySource source_;
};

/// A stretch of a source, cut to what there is, as audio in memory.
///
/// @throws Error bad_input for more than kMostSamplesAtOnce.
[[nodiscard]] WAVICON_EXPORT Audio read_stretch(AudioSource& source, std::int64_t first_frame,
                                                std::int64_t frames);

/// A stretch of one channel; what is outside of the audio is silence.
///
/// @throws Error bad_argument when there is no such channel, bad_input for more than kMostSamplesAtOnce of
/// all channels.
[[nodiscard]] WAVICON_EXPORT std::vector<double> read_channel(AudioSource& source, int channel,
                                                              std::int64_t first_frame, std::int64_t frames);

/// Calls take(first_frame, planar, frames) for one block after the other over a stretch of a source.
template <typename Take>
void for_each_block(AudioSource& source, std::int64_t first_frame, std::int64_t end_frame,
                    std::span<double> scratch, Take&& take) {
  const auto channels = static_cast<std::int64_t>(source.channel_count());
  const std::int64_t block = static_cast<std::int64_t>(scratch.size()) / channels;
  for (std::int64_t at = first_frame; at < end_frame; at += block) {
    const std::int64_t count = block < end_frame - at ? block : end_frame - at;
    const auto planar = scratch.first(static_cast<std::size_t>(count * channels));
    source.read(at, planar);
    take(at, std::span<const double>(planar), count);
  }
}

}  // namespace wavicon
