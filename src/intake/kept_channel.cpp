// SPDX-License-Identifier: MIT
#include "kept_channel.hpp"

#include <algorithm>

namespace wavicon::intake_detail {
namespace {

constexpr std::int64_t kBlock = 4096;        // frames
constexpr std::int64_t kMostKept = 1 << 21;  // frames, 16 MB
constexpr std::int64_t kMostAtOnce = 65536;  // values of all channels

}  // namespace

KeptChannel::KeptChannel(AudioSource& source, int channel)
    : source_(source),
      channel_(channel),
      slots_(static_cast<std::size_t>((source.frames() + kBlock - 1) / kBlock), kNone) {}

void KeptChannel::read(std::int64_t first_frame, std::span<double> planar) {
  const std::lock_guard lock(reading_);
  const auto length = static_cast<std::int64_t>(planar.size());
  const std::int64_t begin = std::clamp<std::int64_t>(first_frame, 0, frames()),
                     end = std::clamp<std::int64_t>(first_frame + length, begin, frames());
  if (end - begin > kMostKept / 2) {
    const auto samples = read_channel(source_, channel_, first_frame, length);
    std::copy(samples.begin(), samples.end(), planar.begin());
    return;
  }
  if (begin == end) {
    std::fill(planar.begin(), planar.end(), 0.0);
    return;
  }
  std::fill(planar.begin(), planar.begin() + (begin - first_frame), 0.0);
  std::fill(planar.begin() + (end - first_frame), planar.end(), 0.0);
  for (std::int64_t at = begin; at < end;) {
    const std::int64_t block = at / kBlock, inside = at % kBlock, count = std::min(kBlock - inside, end - at);
    if (!holds(block)) fetch(block, (end + kBlock - 1) / kBlock);
    const double* from =
        kept_[static_cast<std::size_t>(slots_[static_cast<std::size_t>(block)])].data() + inside;
    std::copy(from, from + count, planar.begin() + (at - first_frame));
    at += count;
  }
}

// A block that is not there, and those behind it that are not either.
void KeptChannel::fetch(std::int64_t block, std::int64_t end) {
  const std::int64_t channels = source_.channel_count(),
                     most = std::max<std::int64_t>(1, kMostAtOnce / kBlock / channels);
  std::int64_t count = 1;
  while (count < most && block + count < end && !holds(block + count)) ++count;
  scratch_.resize(static_cast<std::size_t>(count * kBlock * channels));
  source_.read(block * kBlock, scratch_);
  const auto own = std::span<const double>(scratch_).subspan(
      static_cast<std::size_t>(channel_ * count * kBlock), static_cast<std::size_t>(count * kBlock));
  for (std::int64_t i = 0; i < count; ++i)
    keep(block + i, own.subspan(static_cast<std::size_t>(i * kBlock), static_cast<std::size_t>(kBlock)));
}

// In the place of what was kept longest, once there is no more room.
void KeptChannel::keep(std::int64_t block, std::span<const double> samples) {
  if (kept_.size() < static_cast<std::size_t>(kMostKept / kBlock)) {
    next_ = kept_.size();
    kept_.emplace_back();
    blocks_.push_back(kNone);
  }
  if (blocks_[next_] != kNone) slots_[static_cast<std::size_t>(blocks_[next_])] = kNone;
  kept_[next_].assign(samples.begin(), samples.end());
  blocks_[next_] = block;
  slots_[static_cast<std::size_t>(block)] = static_cast<std::int32_t>(next_);
  next_ = (next_ + 1) % static_cast<std::size_t>(kMostKept / kBlock);
}

}  // namespace wavicon::intake_detail
