// SPDX-License-Identifier: MIT
#include "bounce_tempo.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

#include "samples.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::int64_t kLeastSlip = 8;  // frames
constexpr int kPlaces = 24;             // spread over the programme between the marks
constexpr double kPieceS = 0.085;
constexpr std::int64_t kBeside = 400;    // frames: grains lie so far off their place
constexpr double kLeastMatch = 0.6;      // correlation
constexpr double kAmbiguous = 0.9;       // of the best, at another place: a tone
constexpr std::int64_t kSamePlace = 24;  // frames
constexpr std::size_t kLeastPlaces = 4;  // that have to agree on one ratio
constexpr double kClearly = 0.8;         // the error of a line against that of a step

struct Moved {
  double at = 0;  // 0 at the first mark, 1 at the last
  double frames = 0;
};

// How far a piece of the stimulus lies from its place; none where there is no answer.
std::optional<double> moved_by(std::span<const double> x, std::span<const double> y, std::int64_t most,
                               RealTransform& transform) {
  double own = 0;
  for (const double v : x) own += v * v;
  if (!(own > 0)) return std::nullopt;
  const auto a = transform.bins_of(x);
  auto product = transform.bins_of(y);
  times_conjugates(product, a);
  const auto both = transform.invert(product);
  double other = 0;
  for (std::size_t n = 0; n < x.size(); ++n) other += y[n] * y[n];
  std::vector<double> match(static_cast<std::size_t>(2 * most + 1));
  for (std::size_t lag = 0; lag < match.size(); ++lag) {
    if (lag > 0) other += y[lag + x.size() - 1] * y[lag + x.size() - 1] - y[lag - 1] * y[lag - 1];
    match[lag] = other > 1e-9 * own ? std::abs(both[lag]) / std::sqrt(own * other) : 0;
  }
  const auto best = std::max_element(match.begin(), match.end()) - match.begin();
  const double top = match[static_cast<std::size_t>(best)];
  if (top < kLeastMatch) return std::nullopt;
  for (std::ptrdiff_t lag = 0; lag < static_cast<std::ptrdiff_t>(match.size()); ++lag)
    if (std::abs(lag - best) > kSamePlace && match[static_cast<std::size_t>(lag)] > kAmbiguous * top)
      return std::nullopt;
  return static_cast<double>(best - most);
}

template <typename Expected>
double middle_error(const std::vector<Moved>& places, Expected&& expected) {
  std::vector<double> errors;
  for (const Moved& place : places) errors.push_back(std::abs(place.frames - expected(place.at)));
  const auto middle = errors.begin() + static_cast<std::ptrdiff_t>(errors.size() / 2);
  std::nth_element(errors.begin(), middle, errors.end());
  return *middle;
}

}  // namespace

std::optional<double> tempo_ratio_of(AudioSource& bounce, Stimulus& stimulus, const Take& take) {
  const std::int64_t slip = take.slipped_frames;
  if (std::abs(slip) < kLeastSlip || !take.start || !take.end || !stimulus.marks() || take.rate_ratio != 1)
    return std::nullopt;
  const PlacedMarks& marks = *stimulus.marks();
  const std::int64_t first = marks.start_frame + marks.frames, between = marks.end_frame - first,
                     most = std::abs(slip) + kBeside,
                     length = std::llround(kPieceS * stimulus.recipe().sample_rate_hz);
  if (between < 2 * length) return std::nullopt;
  RealTransform transform(fast_transform_length(static_cast<std::size_t>(2 * length + 2 * most)));
  std::vector<Moved> places;
  std::vector<double> x(static_cast<std::size_t>(length));
  for (int i = 0; i < kPlaces; ++i) {
    const std::int64_t at = first + (between - length) * i / (kPlaces - 1);
    stimulus.render(at, 0, x);
    const auto y =
        read_channel(bounce, take.channel, std::llround(take.first_frame) + at - most, length + 2 * most);
    if (const auto moved = moved_by(x, y, most, transform))
      places.push_back({static_cast<double>(at - marks.start_frame) /
                            static_cast<double>(marks.end_frame - marks.start_frame),
                        *moved});
  }
  if (places.size() < kLeastPlaces) return std::nullopt;
  const auto by = static_cast<double>(slip);
  const double line = middle_error(places, [&](double at) { return by * at; });
  double step = 1e300;
  for (const Moved& cut : places)
    step = std::min(step, middle_error(places, [&](double at) { return at >= cut.at ? by : 0.0; }));
  if (!(line < kClearly * step)) return std::nullopt;
  return 1 + by / static_cast<double>(marks.end_frame - marks.start_frame);
}

}  // namespace wavicon::intake_detail
