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
constexpr double kSlopeCosts = 9;  // squared deviations that a pace beside it has to explain
constexpr double kStepCosts = 25;  // squared deviations that a step has to explain

template <typename Value>
double median(const std::vector<Segment>& segments, Value&& value) {
  std::vector<double> values;
  for (const Segment& s : segments) values.push_back(value(s));
  return median_of(std::move(values));
}

}  // namespace

double surely(std::size_t freedom) {
  static constexpr double kT[] = {1e9,   6366.2, 99.992, 28.0,  15.544, 11.178, 9.082,
                                  7.885, 7.120,  6.594,  6.211, 5.921,  5.694,  5.513,
                                  5.363, 5.239,  5.134,  5.044, 4.966,  4.897,  4.837};
  // Beyond the table by the first term of its series in 1/freedom.
  return std::max(kLeastT,
                  freedom < std::size(kT) ? kT[freedom] : 3.891 * (1 + 4.9 / static_cast<double>(freedom)));
}

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

// Frames per frame between neighbours: steps leave the median where it is.
double pace_between(const std::vector<Segment>& segments) {
  std::vector<double> paces;
  for (std::size_t i = 0; i + 1 < segments.size(); ++i)
    if (segments[i + 1].first > segments[i].first)
      paces.push_back((segments[i + 1].delay - segments[i].delay) /
                      static_cast<double>(segments[i + 1].first - segments[i].first));
  return paces.empty() ? 0 : median_of(std::move(paces));
}

// Runs of segments, each with a delay of its own, whole frames apart.
struct Runs {
  double left = 1e300;
  std::vector<std::size_t> begins;  // of the second run and those that follow
};

// By dynamic programming over where the last run and the one before it begin.
class RunSearch {
 public:
  RunSearch(const std::vector<Segment>& segments, double pace, const DelayLine& line)
      : count_(segments.size()), levels_(count_ * (count_ + 1)), costs_(levels_), best_(levels_) {
    for (const Segment& s : segments) {
      delays_.push_back(s.delay - pace * line.centre(s));
      sigmas_.push_back(std::max(s.sigma, kStepSigma));
    }
    for (std::size_t i = 0; i < count_; ++i)
      for (std::size_t j = i + kLeastOfPiece; j <= count_; ++j) judge(i, j);
  }

  // @param off  by which steps may differ from whole frames.
  Runs run(double off) {
    std::vector<std::size_t> before(levels_.size(), kNone);
    for (std::size_t j = kLeastOfPiece; j <= count_; ++j)
      for (std::size_t i = 0; i + kLeastOfPiece <= j; ++i) {
        best_[at(i, j)] = i == 0 ? costs_[at(i, j)] : 1e300;
        for (std::size_t h = 0; h + kLeastOfPiece <= i; ++h) {
          const double step = levels_[at(i, j)] - levels_[at(h, i)];
          if (std::abs(step) < kLeastStep || std::abs(step - std::round(step)) > off) continue;
          const double cost = best_[at(h, i)] + kStepCosts + costs_[at(i, j)];
          if (cost >= best_[at(i, j)]) continue;
          best_[at(i, j)] = cost;
          before[at(i, j)] = h;
        }
      }
    Runs runs;
    std::size_t last = kNone;
    for (std::size_t i = 0; i + kLeastOfPiece <= count_; ++i)
      if (best_[at(i, count_)] < runs.left) {
        runs.left = best_[at(i, count_)];
        last = i;
      }
    for (std::size_t i = last, j = count_; i != kNone && i != 0;) {
      runs.begins.insert(runs.begins.begin(), i);
      const std::size_t h = before[at(i, j)];
      j = i;
      i = h;
    }
    return runs;
  }

 private:
  static constexpr std::size_t kNone = static_cast<std::size_t>(-1);

  [[nodiscard]] std::size_t at(std::size_t i, std::size_t j) const { return i * (count_ + 1) + j; }

  void judge(std::size_t i, std::size_t j) {
    const auto from = delays_.begin() + static_cast<std::ptrdiff_t>(i);
    const double level = median_of({from, delays_.begin() + static_cast<std::ptrdiff_t>(j)});
    levels_[at(i, j)] = level;
    for (std::size_t n = i; n < j; ++n) {
      const double off = (delays_[n] - level) / sigmas_[n];
      costs_[at(i, j)] += std::min(kMostOff, off * off);
    }
  }

  std::size_t count_;
  std::vector<double> delays_, sigmas_, levels_, costs_, best_;
};

// The pace of all runs together, each with a delay of its own.
double pace_of(const std::vector<Segment>& segments, const Runs& runs, const DelayLine& line) {
  double xx = 0, xy = 0;
  for (std::size_t r = 0; r <= runs.begins.size(); ++r) {
    const std::size_t first = r == 0 ? 0 : runs.begins[r - 1],
                      end = r < runs.begins.size() ? runs.begins[r] : segments.size();
    double w = 0, x = 0, y = 0;
    for (std::size_t n = first; n < end; ++n) {
      const double weight = 1 / (segments[n].sigma * segments[n].sigma);
      w += weight;
      x += weight * line.centre(segments[n]);
      y += weight * segments[n].delay;
    }
    for (std::size_t n = first; n < end; ++n) {
      const double weight = 1 / (segments[n].sigma * segments[n].sigma),
                   off = line.centre(segments[n]) - x / w;
      xx += weight * off * off;
      xy += weight * off * (segments[n].delay - y / w);
    }
  }
  return xx > 0 ? xy / xx : 0;
}

}  // namespace

std::vector<std::size_t> steps_of(const std::vector<Segment>& segments, std::int64_t length) {
  if (segments.size() < 2 * kLeastOfPiece) return {};
  const DelayLine line(length);
  Runs best{.left = left_over(segments, length, true)};
  const auto try_pace = [&](double pace) {
    Runs found = RunSearch(segments, pace, line).run(kWholeFrame);
    if (pace != 0) found.left += kSlopeCosts;
    if (found.left < best.left) best = found;
  };
  try_pace(0);
  // A pace that is known roughly parts the runs, though not by whole frames; all runs together tell it well.
  const Runs rough = RunSearch(segments, pace_between(segments), line).run(0.5);
  try_pace(pace_of(segments, rough, line));
  return best.begins;
}

}  // namespace wavicon::intake_detail
