// SPDX-License-Identifier: MIT
#include "measure/common/lined_up.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kExcerptS = 1;
constexpr double kPeriodic = 0.97;  // of the correlation with itself at once

// How a tone lies to another one: its period, and the least delay that fits.
struct Repetition {
  std::int64_t period = 0;
  std::int64_t delay = 0;
};

// Whether the middle of A is the same again after some frames; then also how late B is, up to that.
std::optional<Repetition> repetition(AudioSource& a, AudioSource& b, const AlignOptions& options) {
  const auto length = std::min<std::int64_t>(std::min(a.frames(), b.frames()) / 2,
                                             static_cast<std::int64_t>(kExcerptS * a.sample_rate_hz()));
  if (length < 64) return std::nullopt;
  const std::int64_t first = (std::min(a.frames(), b.frames()) - length) / 2;
  RealTransform transform(fast_transform_length(static_cast<std::size_t>(2 * length)));
  const auto x = transform.bins_of(read_channel(a, options.reference_channel, first, length));
  auto cross = transform.bins_of(read_channel(b, options.capture_channel, first, length));
  auto own = x;
  for (std::size_t k = 0; k < x.size(); ++k) {
    own[k] = std::norm(x[k]);
    cross[k] *= std::conj(x[k]);
  }
  const auto lags = transform.invert(own);
  if (!(lags[0] > 0)) return std::nullopt;
  Repetition found;
  bool fell = false;
  for (std::int64_t lag = 1; lag < length / 4 && found.period == 0; ++lag) {
    // Fewer frames overlap at longer lags.
    const double alike = lags[static_cast<std::size_t>(lag)] / lags[0] * static_cast<double>(length) /
                         static_cast<double>(length - lag);
    fell |= alike < 0;
    const bool crest = lags[static_cast<std::size_t>(lag)] >= lags[static_cast<std::size_t>(lag) + 1];
    if (fell && crest && alike > kPeriodic) found.period = lag;
  }
  if (found.period == 0) return std::nullopt;
  const auto between = transform.invert(cross);
  found.delay = std::max_element(between.begin(), between.begin() + found.period,
                                 [](double p, double q) { return std::abs(p) < std::abs(q); }) -
                between.begin();
  return found;
}

}  // namespace

Alignment lined_up(AudioSource& a, AudioSource& b, AlignOptions options) {
  if (const auto found = align(a, b, options)) return *found;
  if (const auto tone = repetition(a, b, options))
    throw Error(ErrorCode::bad_input, fmt::format("A repeats itself every {} samples, so that delays of {}, "
                                                  "{}, {} … samples fit alike: use speech, "
                                                  "music or a stimulus with marks, or give the delay",
                                                  tone->period, tone->delay, tone->delay + tone->period,
                                                  tone->delay + 2 * tone->period));
  const double needed = options.least_confidence;
  const double needed_match = options.least_match;
  options.least_confidence = options.least_match = 0;
  const auto doubtful = align(a, b, options);
  if (doubtful && doubtful->match > 0)
    throw Error(ErrorCode::bad_input,
                fmt::format("A is one hit, and the best match in B is {:.1f} %, where {:g} % "
                            "are needed: another sound, or one that a filter has changed; use several hits, "
                            "speech, or a stimulus with marks",
                            100 * doubtful->match, 100 * needed_match));
  throw Error(
      ErrorCode::bad_input,
      fmt::format(
          "A and B have too little in common to be lined up: the correlation stands {:.1f} times over its "
          "mean, {:g} are needed",
          doubtful ? doubtful->confidence : 0.0, needed));
}

}  // namespace wavicon::measure_detail
