// SPDX-License-Identifier: MIT
#include "wavicon/audio/concatenated.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "wavicon/audio/error.hpp"

namespace wavicon {

ConcatenatedSource::ConcatenatedSource(std::vector<std::shared_ptr<AudioSource>> sources)
    : sources_(std::move(sources)) {
  if (sources_.empty())
    throw Error(ErrorCode::bad_argument, "nothing to put in a row: at least one source is needed");
  const AudioSource& first = *sources_.front();
  for (const auto& source : sources_) {
    if (source->sample_rate_hz() != first.sample_rate_hz() ||
        source->channel_count() != first.channel_count())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{:g} Hz and {} channels beside {:g} Hz and {}: a row needs one rate and one "
                              "channel count",
                              source->sample_rate_hz(), source->channel_count(), first.sample_rate_hz(),
                              first.channel_count()));
    starts_.push_back(frames_);
    frames_ += source->frames();
  }
}

void ConcatenatedSource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(channel_count());
  const auto length = static_cast<std::int64_t>(planar.size() / channels);
  std::fill(planar.begin(), planar.end(), 0.0);
  std::vector<double> piece;
  for (std::size_t i = 0; i < sources_.size(); ++i) {
    const std::int64_t from = std::max(first_frame, starts_[i]),
                       to = std::min(first_frame + length, starts_[i] + sources_[i]->frames());
    if (to <= from) continue;
    const auto count = static_cast<std::size_t>(to - from);
    piece.resize(count * channels);
    sources_[i]->read(from - starts_[i], piece);
    for (std::size_t c = 0; c < channels; ++c)
      std::copy_n(piece.begin() + static_cast<std::ptrdiff_t>(c * count), count,
                  planar.begin() + static_cast<std::ptrdiff_t>(c) * length + (from - first_frame));
  }
}

}  // namespace wavicon
