// SPDX-License-Identifier: MIT
#include "wavicon/audio/resampled.hpp"

#include <fmt/format.h>

#include <cmath>

#include "wavicon/audio/error.hpp"

namespace wavicon {

ResampledSource::ResampledSource(AudioSource& source, double sample_rate_hz)
    : source_(source), rate_(sample_rate_hz), step_(source.sample_rate_hz() / sample_rate_hz) {
  if (!(step_ <= 1))
    throw Error(ErrorCode::bad_argument, fmt::format("{:g} Hz cannot be read at the lower rate of {:g} Hz",
                                                     source.sample_rate_hz(), sample_rate_hz));
}

std::int64_t ResampledSource::frames() const noexcept {
  return static_cast<std::int64_t>(std::floor(static_cast<double>(source_.frames()) / step_));
}

void ResampledSource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(channel_count());
  const std::size_t length = planar.size() / channels;
  const double place = static_cast<double>(first_frame) * step_;
  const auto begin = static_cast<std::int64_t>(std::floor(place)) - FractionalReader::kReach;
  const auto count = static_cast<std::size_t>(static_cast<double>(length) * step_) +
                     2 * static_cast<std::size_t>(FractionalReader::kReach) + 2;
  own_.resize(count * channels);
  source_.read(begin, own_);
  for (std::size_t c = 0; c < channels; ++c)
    reader_.read(std::span<const double>(own_).subspan(c * count, count), place - static_cast<double>(begin),
                 step_, planar.subspan(c * length, length));
}

}  // namespace wavicon
