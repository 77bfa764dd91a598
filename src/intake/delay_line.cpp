// SPDX-License-Identifier: MIT
#include "delay_line.hpp"

#include <algorithm>
#include <cmath>
#include <iterator>
#include <utility>

#include "samples.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kOutlier = 4;             // standard deviations
constexpr double kMadToSigma = 1.4826;     // of a Gaussian's median absolute deviation
constexpr std::size_t kLeastForDrift = 4;  // segments
constexpr double kOverlap = 1.0824;  // √(1 + 2·3/35): Σh²(n)h²(n + N/2) over Σh⁴, both neighbours
constexpr double kLeastT = 4;        // standard deviations, however many segments there are
constexpr double kWholeFrame = 0.1;
constexpr double kLeastStep = 0.75;       // frames: what was lost or inserted is whole frames
constexpr std::size_t kLeastOfPiece = 3;  // segments on either side of a step
constexpr double kStepSigma =
    0.05;                       // frames, at least: what segments are believed to, where pieces are weighed
constexpr double kMostOff = 9;  // squared deviations: one that lies anywhere says no more
constexpr double kStepCosts = 25;  // squared deviations that a step has to explain

template <typename Value>
double median(const std::vector<Segment>& segments, Value&& value) {
  std::vector<double> values;
  for (const Segment& s : segments) values.push_back(value(s));
  return median_of(std::move(values));
}

// Student's t that is exceeded in one of 10 000 cases, either way, by degrees of freedom.
double surely(std::size_t freedom) {
  static constexpr double kT[] = {1e9,   6366.2, 99.992, 28.0,  15.544, 11.178, 9.082,
                                  7.885, 7.120,  6.594,  6.211, 5.921,  5.694,  5.513,
                                  5.363, 5.239,  5.134,  5.044, 4.966,  4.897,  4.837};
  // Beyond the table by the first term of its series in 1/freedom.
  return std::max(kLeastT,
                  freedom < std::size(kT) ? kT[freedom] : 3.891 * (1 + 4.9 / static_cast<double>(freedom)));
}

}  // namespace

void DelayLine::fit(const std::vector<Segment>& segments, bool with_slope) {
  if (segments.empty()) return;
  line_ = {median(segments, [](const Segment& s) { return s.delay; }), 0};
  if (segments.size() == 1 || !with_slope) return refit(segments, false);
  std::vector<double> slopes;
  for (std::size_t i = 0; i < segments.size(); ++i)
    for (std::size_t j = i + 1; j < segments.size(); ++j)
      if (segments[i].first != segments[j].first)
        slopes.push_back((segments[j].delay - segments[i].delay) /
                         static_cast<double>(segments[j].first - segments[i].first));
  line_.slope = slopes.empty() ? 0 : median_of(std::move(slopes));
  line_.delay = median(segments, [&](const Segment& s) { return s.delay - line_.slope * centre(s); });
  refit(segments, true);
}

void DelayLine::refit(const std::vector<Segment>& segments, bool with_slope) {
  const double deviation = median(segments, [&](const Segment& s) { return std::abs(off(s)); });
  const double limit = kOutlier * std::max(1.0, kMadToSigma * deviation);
  double w = 0, wx = 0, wy = 0, wxx = 0, wxy = 0;
  const double origin = centre(segments[0]);
  used_ = 0;
  for (const Segment& s : segments) {
    if (std::abs(off(s)) > limit) continue;
    const double x = centre(s) - origin, weight = 1 / (s.sigma * s.sigma);
    ++used_;
    w += weight;
    wx += weight * x;
    wy += weight * s.delay;
    wxx += weight * x * x;
    wxy += weight * x * s.delay;
  }
  const double determinant = w * wxx - wx * wx;
  const bool sloped = with_slope && determinant > 1e-12 * w * wxx;
  const double slope = sloped ? (w * wxy - wx * wy) / determinant : 0;
  line_ = {(wy - slope * wx) / w - slope * origin, slope};
  double squares = 0, weights = 0, scatter = 0;
  for (const Segment& s : segments) {
    const double deviations = std::clamp(off(s), -limit, limit);
    if (std::abs(off(s)) <= limit) scatter += deviations * deviations;
    squares += deviations * deviations;
    weights += 1 / (s.sigma * s.sigma);
  }
  // What scatters more than it should is less sure than it says; less is never believed.
  const double freedom = static_cast<double>(used_) - (sloped ? 2 : 1);
  const double widened = freedom > 0 ? std::sqrt(std::max(1.0, scatter / freedom)) : 1;
  widened_ = widened;
  spread_ = std::sqrt(squares / weights);
  // Segments that lie half over each other share noise: 3/35 of it, of Hann windows.
  const double shared = segments.size() > 1 ? kOverlap : 1;
  slope_sigma_ = sloped ? shared * widened * std::sqrt(w / determinant) : 0;
  delay_sigma_ = shared * widened / std::sqrt(w);
}

bool DelayLine::leans() const {
  return used_ >= kLeastForDrift && std::abs(line_.slope) > surely(used_ - 2) * slope_sigma_;
}

namespace {

// What a run of segments leaves over when they share one delay (or lie on the line), each capped.
double left_over(std::vector<Segment> run, std::int64_t length, bool with_slope) {
  for (Segment& s : run) s.sigma = std::max(s.sigma, kStepSigma);
  DelayLine line(length);
  line.fit(run, with_slope);
  double sum = 0;
  for (const Segment& s : run) {
    const double off = (s.delay - line.line().at(line.centre(s))) / s.sigma;
    sum += std::min(kMostOff, off * off);
  }
  return sum;
}

double delay_of(const std::vector<Segment>& run, std::int64_t length) {
  DelayLine line(length);
  line.fit(run, false);
  return line.line().delay;
}

}  // namespace

std::optional<Step> step_of(const std::vector<Segment>& segments, std::int64_t length) {
  if (segments.size() < 2 * kLeastOfPiece) return std::nullopt;
  std::optional<Step> best;
  double least = left_over(segments, length, true) - kStepCosts;
  for (std::size_t cut = kLeastOfPiece; cut + kLeastOfPiece <= segments.size(); ++cut) {
    const auto at = segments.begin() + static_cast<std::ptrdiff_t>(cut);
    const std::vector<Segment> before(segments.begin(), at), after(at, segments.end());
    const double left = left_over(before, length, false) + left_over(after, length, false);
    const double frames = delay_of(after, length) - delay_of(before, length);
    if (left >= least || std::abs(frames) < kLeastStep || std::abs(frames - std::round(frames)) > kWholeFrame)
      continue;
    least = left;
    best = Step{cut - 1, frames};
  }
  return best;
}

}  // namespace wavicon::intake_detail
