// SPDX-License-Identifier: MIT
#include "wavicon/audio/source.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"

namespace wavicon {
namespace {

void require_holdable(std::int64_t frames, int channels) {
  if (frames > kMostSamplesAtOnce / channels)
    throw Error(ErrorCode::bad_input,
                fmt::format("{} frames of {} channels are more than is held at once ({} samples); measure a "
                            "stretch with --from and --to",
                            frames, channels, kMostSamplesAtOnce));
}

}  // namespace

void MemorySource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(audio_.channel_count());
  const std::size_t length = planar.size() / channels;
  const std::int64_t end = first_frame + static_cast<std::int64_t>(length);
  const std::int64_t from = std::clamp<std::int64_t>(first_frame, 0, audio_.frames()),
                     to = std::clamp<std::int64_t>(end, from, audio_.frames());
  for (std::size_t c = 0; c < channels; ++c) {
    const auto run = planar.subspan(c * length, length);
    if (from > first_frame || to < end) std::fill(run.begin(), run.end(), 0.0);
    const double* samples = audio_.channel(static_cast<int>(c)).data();
    std::copy(samples + from, samples + to, run.begin() + (from - std::min(from, first_frame)));
  }
}

std::vector<double> read_channel(AudioSource& source, int channel, std::int64_t first_frame,
                                 std::int64_t frames) {
  if (channel < 0 || channel >= source.channel_count())
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no channel {}, there are {}", channel + 1, source.channel_count()));
  require_holdable(frames, source.channel_count());
  const auto length = static_cast<std::size_t>(std::max<std::int64_t>(0, frames));
  std::vector<double> planar(length * static_cast<std::size_t>(source.channel_count()));
  source.read(first_frame, planar);
  const auto from = planar.begin() + static_cast<std::ptrdiff_t>(static_cast<std::size_t>(channel) * length);
  if (channel > 0) std::copy(from, from + static_cast<std::ptrdiff_t>(length), planar.begin());
  planar.resize(length);
  return planar;
}

Audio read_stretch(AudioSource& source, std::int64_t first_frame, std::int64_t frames) {
  const std::int64_t from = std::clamp<std::int64_t>(first_frame, 0, source.frames());
  const std::int64_t count = std::clamp<std::int64_t>(first_frame + frames - from, 0, source.frames() - from);
  require_holdable(count, source.channel_count());
  Audio audio(source.sample_rate_hz(), source.channel_count(), count);
  // The channels of an Audio lie one after the other.
  if (count > 0)
    source.read(from, {audio.channel(0).data(), static_cast<std::size_t>(count * source.channel_count())});
  return audio;
}

}  // namespace wavicon
