// SPDX-License-Identifier: MIT
#include "explained_power.hpp"

#include <algorithm>
#include <cmath>

namespace wavicon::intake_detail {
namespace {

constexpr double kThere = 0.99;     // correlation of a segment that is there
constexpr double kOneLevel = 0.02;  // by which gains may differ
constexpr double kPlainlyMore = 0.15;
constexpr std::int64_t kAround = 16;  // frames, to either side of a place that is known to a low sample
constexpr std::size_t kMostLooked = 32;

using Lying = SegmentTimer::Likeness;

// The share that lies there at the level of most of it.
double at_one_level(std::vector<Lying> segments) {
  double all = 0, most = 0;
  for (const Lying& s : segments) all += s.power;
  std::erase_if(segments, [](const Lying& s) { return !(s.alike > kThere); });
  std::sort(segments.begin(), segments.end(), [](const Lying& p, const Lying& q) { return p.gain < q.gain; });
  double within = 0;
  for (std::size_t first = 0, end = 0; first < segments.size(); ++first) {
    while (end < segments.size() &&
           segments[end].gain - segments[first].gain < 2 * kOneLevel * std::abs(segments[end].gain))
      within += segments[end++].power;
    most = std::max(most, within);
    within -= segments[first].power;
  }
  return all > 0 ? most / all : 0;
}

}  // namespace

double explained_power(const AlignedPair& pair, const Alignment& found) {
  const std::vector<double> delays = delays_of_pieces(found);
  std::vector<Line> lines;
  for (const std::int64_t first : pair.places) {
    std::size_t piece = 0;
    for (const Slip& slip : found.slips) piece += slip.before_frame <= first;
    lines.push_back({delays[piece], found.frames_per_frame - 1});
  }
  std::vector<Lying> segments;
  for (const auto& one : pair.timer.likenesses(pair.places, lines))
    if (one) segments.push_back(*one);
  return at_one_level(std::move(segments));
}

std::optional<double> better_explained(const AlignedPair& pair, const Alignment& found, double here,
                                       const std::vector<double>& others) {
  std::optional<double> best;
  const double slope = found.frames_per_frame - 1;
  const std::size_t step = (pair.places.size() + kMostLooked - 1) / kMostLooked;
  std::vector<std::vector<Lying>> segments(others.size());
  for (std::size_t i = 0; i < pair.places.size(); i += step)
    for (std::size_t other = 0; other < others.size(); ++other) {
      const auto first = static_cast<double>(pair.places[i]);
      std::vector<Segment> one;
      if (auto s = pair.search.search(pair.places[i], others[other] + slope * first, kAround))
        one.push_back(*s);
      if (!one.empty()) pair.timer.refine(one, slope);
      const double own = one.empty() ? others[other] : one[0].delay - slope * first;
      if (const auto at = pair.timer.likeness(pair.places[i], {own, slope})) segments[other].push_back(*at);
    }
  for (std::size_t other = 0; other < others.size(); ++other) {
    const double share = at_one_level(std::move(segments[other]));
    if (share < here + kPlainlyMore) continue;
    here = share;
    best = others[other];
  }
  return best;
}

}  // namespace wavicon::intake_detail
