// SPDX-License-Identifier: MIT
#include "wavicon/live/generator.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

constexpr double kRampS = 0.02;  // from nothing to full scale
constexpr double kLowestToneHz = 1, kHighestShare = 0.49, kSoftestDbfs = -140;

}  // namespace

Generator::Generator(GeneratorOptions options)
    : options_(std::move(options)), on_(options_.on), most_change_(1 / (kRampS * options_.sample_rate_hz)) {
  if (options_.level_dbfs > options_.ceiling_dbfs)
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("{:g} dBFS is above the ceiling of {:g} dBFS: play softer, or raise it by --ceiling "
                    "when what hangs on the outputs can take it",
                    options_.level_dbfs, options_.ceiling_dbfs));
  if (options_.loop.empty()) {
    if (!(options_.frequency_hz >= kLowestToneHz &&
          options_.frequency_hz <= kHighestShare * options_.sample_rate_hz))
      throw Error(ErrorCode::bad_argument, fmt::format("a tone of {:g} Hz cannot be played at {:g} Hz",
                                                       options_.frequency_hz, options_.sample_rate_hz));
    set_frequency(options_.frequency_hz);
  } else {
    loop_peak_ = 0;
    loop_frames_ = static_cast<std::int64_t>(options_.loop.front().size());
    for (const auto& channel : options_.loop)
      for (const float v : channel) loop_peak_ = std::max(loop_peak_, std::abs(static_cast<double>(v)));
    if (loop_frames_ == 0 || !(loop_peak_ > 0))
      throw Error(ErrorCode::bad_argument, "there is nothing in what is to be played");
  }
  set_level(options_.level_dbfs);
}

int Generator::channel_count() const noexcept {
  return is_tone() ? 1 : static_cast<int>(options_.loop.size());
}

double Generator::set_frequency(double hz) {
  frequency_hz_ = std::clamp(hz, kLowestToneHz, kHighestShare * options_.sample_rate_hz);
  step_.store(phase_step(frequency_hz_, options_.sample_rate_hz), std::memory_order_relaxed);
  return frequency_hz_;
}

double Generator::set_level(double dbfs) {
  level_dbfs_ = std::clamp(dbfs, kSoftestDbfs, options_.ceiling_dbfs);
  wanted_.store(ratio_from_db(level_dbfs_) / loop_peak_, std::memory_order_relaxed);
  return level_dbfs_;
}

void Generator::render(float* const* out, int channel_count, std::int64_t frames) noexcept {
  const Phase step = step_.load(std::memory_order_relaxed);
  const double wanted = on() ? wanted_.load(std::memory_order_relaxed) : 0;
  const double most = most_change_ / loop_peak_;
  std::int64_t at = rendered_.load(std::memory_order_relaxed);
  for (std::int64_t n = 0; n < frames; ++n, ++at) {
    factor_ += std::clamp(wanted - factor_, -most, most);
    if (is_tone()) {
      const auto value = static_cast<float>(factor_ == 0 ? 0 : factor_ * sine(phase_));
      phase_ += step;
      for (int c = 0; c < channel_count; ++c) out[c][n] = value;
      continue;
    }
    const auto place = static_cast<std::size_t>(at % loop_frames_);
    for (int c = 0; c < channel_count; ++c)
      out[c][n] = static_cast<float>(
          factor_ *
          static_cast<double>(
              options_.loop[std::min(static_cast<std::size_t>(c), options_.loop.size() - 1)][place]));
  }
  rendered_.store(at, std::memory_order_release);
}

}  // namespace wavicon
