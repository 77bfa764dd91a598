// SPDX-License-Identifier: MIT
#include "wavicon/audio/audio.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "audio/wide.hpp"
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

namespace {

constexpr std::size_t kSide = 8;  // side by side

WAVICON_WIDE void join_peaks(const double* __restrict samples, std::size_t rows, double* __restrict highest) {
  double most[kSide] = {};
  for (std::size_t r = 0; r < rows; ++r)
    for (std::size_t i = 0; i < kSide; ++i) {
      const double size = std::abs(samples[r * kSide + i]);
      most[i] = most[i] < size ? size : most[i];
    }
  for (std::size_t i = 0; i < kSide; ++i) highest[i] = most[i];
}

}  // namespace

double peak(std::span<const double> samples) noexcept {
  double sides[kSide], highest = 0;
  join_peaks(samples.data(), samples.size() / kSide, sides);
  for (const double x : sides) highest = std::max(highest, x);
  for (const double x : samples.last(samples.size() % kSide)) highest = std::max(highest, std::abs(x));
  return highest;
}

}  // namespace wavicon
