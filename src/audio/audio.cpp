// SPDX-License-Identifier: MIT
#include "wavicon/audio/audio.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/error.hpp"

namespace wavicon {

Audio::Audio(double sample_rate_hz, int channel_count, std::int64_t frames)
    : sample_rate_hz_(sample_rate_hz), channel_count_(channel_count), frames_(frames) {
  if (!(sample_rate_hz > 0) || !std::isfinite(sample_rate_hz))
    throw Error(ErrorCode::bad_argument, fmt::format("sample rate {} Hz is not above 0", sample_rate_hz));
  if (channel_count < 1)
    throw Error(ErrorCode::bad_argument, fmt::format("{} channels: at least 1 is needed", channel_count));
  if (frames < 0) throw Error(ErrorCode::bad_argument, fmt::format("{} frames: below 0", frames));
  samples_.resize(static_cast<std::size_t>(channel_count) * static_cast<std::size_t>(frames));
}

namespace {

void require_channel(int index, int count) {
  if (index < 0 || index >= count)
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no channel {}, there are {}", index + 1, count));
}

}  // namespace

std::span<double> Audio::channel(int index) {
  require_channel(index, channel_count_);
  const auto length = static_cast<std::size_t>(frames_);
  return std::span(samples_).subspan(static_cast<std::size_t>(index) * length, length);
}

std::span<const double> Audio::channel(int index) const {
  require_channel(index, channel_count_);
  const auto length = static_cast<std::size_t>(frames_);
  return std::span(samples_).subspan(static_cast<std::size_t>(index) * length, length);
}

namespace {
constexpr double kMostSample = 1e100;  // full scale = 1: squares and sums stay finite
}

void require_measurable(const Audio& audio) {
  if (audio.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  for (int c = 0; c < audio.channel_count(); ++c) {
    const auto samples = audio.channel(c);
    const auto bad =
        std::find_if(samples.begin(), samples.end(), [](double x) { return !(std::abs(x) < kMostSample); });
    if (bad == samples.end()) continue;
    const auto frame = bad - samples.begin();
    throw Error(
        ErrorCode::bad_input,
        fmt::format("channel {} holds {} at frame {} ({:.6f} s): what wrote it has failed there", c + 1,
                    std::isnan(*bad)      ? "not-a-number"
                    : std::isfinite(*bad) ? "a value whose square is infinite"
                                          : "an infinite value",
                    frame, static_cast<double>(frame) / audio.sample_rate_hz()));
  }
}

double peak(std::span<const double> samples) noexcept {
  double highest = 0;
  for (const double x : samples) highest = std::max(highest, std::abs(x));
  return highest;
}

}  // namespace wavicon
