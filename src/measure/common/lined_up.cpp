// SPDX-License-Identifier: MIT
#include "measure/common/lined_up.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>
#include <numeric>
#include <string>
#include <utility>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kExcerptS = 1;
constexpr double kThere = 0.5;      // of the correlation of both
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
  const auto y = read_channel(b, options.capture_channel, first, length);
  auto cross = transform.bins_of(y);
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
  const double energies = lags[0] * std::inner_product(y.begin(), y.end(), y.begin(), 0.0);
  const auto between = transform.invert(cross);
  found.delay = std::max_element(between.begin(), between.begin() + found.period,
                                 [](double p, double q) { return std::abs(p) < std::abs(q); }) -
                between.begin();
  // What is not there fits nowhere.
  const double alike = std::abs(between[static_cast<std::size_t>(found.delay)]);
  return alike > kThere * std::sqrt(energies) ? std::optional(found) : std::nullopt;
}

// What happened to something that runs at another speed, and what to do.
std::string wrong_speed(double frames_per_frame) {
  for (const auto& [from, to] : {std::pair{44.1, 48.0},
                                 {48.0, 44.1},
                                 {88.2, 96.0},
                                 {96.0, 88.2},
                                 {44.1, 88.2},
                                 {88.2, 44.1},
                                 {44.1, 96.0},
                                 {96.0, 44.1},
                                 {48.0, 88.2},
                                 {88.2, 48.0}})
    if (std::abs(frames_per_frame / (from / to) - 1) < 1e-6)
      return fmt::format(
          "B runs {:.6g} times as fast as A, as {:g} kHz do that are taken for {:g} kHz: give it the "
          "rate at which it was made, or make it again",
          1 / frames_per_frame, from, to);
  return fmt::format(
      "B runs {:.4f} times as fast as A ({:+.2f} %), as from a tape or a clock of its own: bring it to "
      "A's speed first",
      1 / frames_per_frame, 100 * (1 / frames_per_frame - 1));
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
  if (const auto speed = speed_between(a, b, options)) throw Error(ErrorCode::bad_input, wrong_speed(*speed));
  options.doubtful = true;
  const auto doubtful = align(a, b, options);
  if (doubtful && doubtful->slips_untold)
    throw Error(
        ErrorCode::bad_input,
        fmt::format(
            "frames were lost or inserted between A and B, and how many cannot be told, as the sounds "
            "repeat or too much is missing: the longest stretch that fits runs from {:.3f} to {:.3f} "
            "s of A; measure it with --from and --to, or capture again with a larger buffer",
            static_cast<double>(doubtful->piece_first_frame) / a.sample_rate_hz(),
            static_cast<double>(doubtful->piece_end_frame) / a.sample_rate_hz()));
  if (doubtful && doubtful->match >= options.least_match)
    throw Error(
        ErrorCode::bad_input,
        fmt::format("A is one hit, and its bands disagree where it matches best: a filter has turned its "
                    "low end in phase, so that no one delay holds for it (agreement {:.0f} %); use a "
                    "click, several hits, speech, or a stimulus with marks",
                    100 * std::max(0.0, doubtful->agreement)));
  if (doubtful && doubtful->match > 0)
    throw Error(ErrorCode::bad_input,
                fmt::format("A is one hit, and the best match in B is {:.1f} %, where {:g} % "
                            "are needed: another sound, or one that a filter has changed; use several hits, "
                            "speech, or a stimulus with marks",
                            100 * doubtful->match, 100 * options.least_match));
  throw Error(ErrorCode::bad_input,
              doubtful
                  ? fmt::format("A and B have too little in common to be lined up: the best place is {:.1f} "
                                "deviations out of what chance gives, and {} of {} segments land there by "
                                "themselves (from 10 on six of ten are needed, from 24 on a fifth)",
                                doubtful->confidence, doubtful->agreed, doubtful->looked)
                  : "A and B have too little in common to be lined up: one of them is silent");
}

}  // namespace wavicon::measure_detail
