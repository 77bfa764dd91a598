// SPDX-License-Identifier: MIT
#include "wavicon/stimulus/tone.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>

#include "renderers.hpp"
#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

using stimulus_detail::fade_gain;
using stimulus_detail::frames_of;

void require_range(const char* what, double value, double low, double high, const char* unit) {
  if (value >= low && value <= high) return;
  throw Error(ErrorCode::bad_argument,
              fmt::format("{} {} {} is not within {} to {} {}", what, value, unit, low, high, unit));
}

}  // namespace

void require_valid(const ToneStimulus& s) {
  require_range("sample rate", s.sample_rate_hz, kLowestSampleRateHz, kHighestSampleRateHz, "Hz");
  if (!(s.frequency_hz > 0 && s.frequency_hz < s.sample_rate_hz / 2))
    throw Error(ErrorCode::bad_argument,
                fmt::format("frequency {} Hz is not above 0 and below half the sample rate ({} Hz)",
                            s.frequency_hz, s.sample_rate_hz / 2));
  require_range("level", s.level_dbfs, -200, 60, "dBFS");
  require_range("phase", s.phase_deg, -360, 360, "degrees");
  require_range("length", s.seconds, 1.0 / s.sample_rate_hz, kLongestS, "s");
  require_range("silence before", s.silence_before_s, 0, kLongestS, "s");
  require_range("silence after", s.silence_after_s, 0, kLongestS, "s");
  require_range("fade in", s.fade_in_s, 0, s.seconds, "s");
  require_range("fade out", s.fade_out_s, 0, s.seconds, "s");
  if (s.fade_in_s + s.fade_out_s > s.seconds)
    throw Error(ErrorCode::bad_argument, fmt::format("fades of {} s and {} s do not fit into {} s of tone",
                                                     s.fade_in_s, s.fade_out_s, s.seconds));
}

std::int64_t frame_count(const ToneStimulus& s) {
  return frames_of(s.silence_before_s, s.sample_rate_hz) + frames_of(s.seconds, s.sample_rate_hz) +
         frames_of(s.silence_after_s, s.sample_rate_hz);
}

void render(const ToneStimulus& s, std::int64_t first_frame, std::span<double> out) {
  std::fill(out.begin(), out.end(), 0.0);
  const std::int64_t start = frames_of(s.silence_before_s, s.sample_rate_hz);
  const std::int64_t length = frames_of(s.seconds, s.sample_rate_hz);
  const std::int64_t fade_in = frames_of(s.fade_in_s, s.sample_rate_hz);
  const std::int64_t fade_out = frames_of(s.fade_out_s, s.sample_rate_hz);
  const Phase step = phase_step(s.frequency_hz, s.sample_rate_hz);
  const Phase origin = phase_from_cycles(s.phase_deg / 360.0);
  const double amplitude = ratio_from_db(s.level_dbfs);

  const std::int64_t from = std::max(first_frame, start) - start;
  const std::int64_t to =
      std::min(first_frame + static_cast<std::int64_t>(out.size()), start + length) - start;
  if (to <= from) return;
  const auto wave =
      out.subspan(static_cast<std::size_t>(from + start - first_frame), static_cast<std::size_t>(to - from));
  steady_sines(origin + step * static_cast<Phase>(from), step, wave);
  for (std::int64_t n = from; n < to; ++n) {
    double& sample = wave[static_cast<std::size_t>(n - from)];
    double value = amplitude * sample;
    if (n < fade_in) value *= fade_gain(n, fade_in);
    if (length - 1 - n < fade_out) value *= fade_gain(length - 1 - n, fade_out);
    sample = value;
  }
}

double on_bin_frequency_hz(double frequency_hz, double sample_rate_hz, std::int64_t length) {
  const double cycles = std::round(frequency_hz * static_cast<double>(length) / sample_rate_hz);
  const double most = std::ceil(static_cast<double>(length) / 2.0) - 1.0;
  return std::clamp(cycles, 1.0, std::max(1.0, most)) * sample_rate_hz / static_cast<double>(length);
}

std::int64_t power_of_two_within(std::int64_t frames) {
  return frames < 1 ? 1 : static_cast<std::int64_t>(std::bit_floor(static_cast<std::uint64_t>(frames)));
}

}  // namespace wavicon
