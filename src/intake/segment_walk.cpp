// SPDX-License-Identifier: MIT
#include "segment_walk.hpp"

#include <algorithm>
#include <cmath>

#include "slip_check.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::int64_t kSegment = 16384;  // frames
constexpr std::int64_t kShortest = 256;
constexpr double kSegmentRateHz = 96000;  // up to half as much again; longer ones above
constexpr int kMostSearches = 16;         // by threads of their own
constexpr std::int64_t kFar = 8192;       // frames by which a slip may move a segment
constexpr double kClearly = 1.04;         // times as alike: the farther place is the right one
constexpr double kUsually = 0.9;          // of what other segments reach
constexpr double kNotAtAll = 0.5;         // of it

}  // namespace

Walked SegmentWalk::from(double delay, std::int64_t excerpt) {
  const std::int64_t late = std::llround(delay);
  const auto common = std::min<std::int64_t>(a_.frames(), b_.frames() - late + kNear);
  const std::int64_t begin = std::max<std::int64_t>(0, -late - kNear);
  // A segment has to hold enough of what it is told by, whatever the rate.
  const std::int64_t segment =
      kSegment * std::max<std::int64_t>(1, std::llround(a_.sample_rate_hz() / kSegmentRateHz));
  const std::int64_t length = std::min(segment, std::max(kShortest, common - begin));
  // Half over each other: what the window takes from one, its neighbours have.
  const auto count = std::clamp<std::int64_t>(2 * (common - begin) / length - 1, 1,
                                              static_cast<std::int64_t>(kMostSegments));
  std::vector<std::int64_t> places;
  for (std::int64_t i = 0; i < count; ++i)
    places.push_back(count == 1 ? begin : begin + i * (common - begin - length) / (count - 1));
  length_ = length;
  const auto middle = std::min<std::ptrdiff_t>(
      std::lower_bound(places.begin(), places.end(), excerpt) - places.begin(), count - 1);
  const std::int64_t hop = count == 1 ? common : (common - begin - length) / (count - 1);
  Way forth{.delay = delay, .known = excerpt, .search = searches(length)[0]},
      back{.delay = delay, .known = excerpt, .search = searches(length)[1]};
  // Behind frames that were lost lies more of the reference than the place that was found leaves room for.
  const auto go_forth = [&] {
    for (std::ptrdiff_t i = middle; i < count; ++i) go_to(places[static_cast<std::size_t>(i)], forth);
    for (std::int64_t first = places.back() + hop;
         forth.delay < delay - kNear && first + length <= a_.frames() &&
         static_cast<double>(first + length) + forth.delay <= static_cast<double>(b_.frames());
         first += hop) {
      forth.farther.push_back(first);
      go_to(first, forth);
    }
  };
  const auto go_back = [&] {
    for (std::ptrdiff_t i = middle - 1; i >= 0; --i) go_to(places[static_cast<std::size_t>(i)], back);
    for (std::int64_t first = places.front() - hop;
         back.delay > delay + kNear && first >= 0 && static_cast<double>(first) + back.delay >= 0;
         first -= hop) {
      back.farther.push_back(first);
      go_to(first, back);
    }
  };
  for_each_part(2, [&](std::size_t part) { part == 0 ? go_forth() : go_back(); });

  Walked walked{.found = std::move(forth.found), .length = length};
  walked.found.insert(walked.found.end(), back.found.begin(), back.found.end());
  walked.places.assign(back.farther.rbegin(), back.farther.rend());
  walked.places.insert(walked.places.end(), places.begin(), places.end());
  walked.places.insert(walked.places.end(), forth.farther.begin(), forth.farther.end());
  return walked;
}

void SegmentWalk::go_to(std::int64_t first, Way& at) {
  const double far = static_cast<double>(std::abs(first - at.known));
  const std::int64_t near =
      reach() + (options_.drift ? std::llround(options_.most_drift_ppm * 1e-6 * far) : 0);
  auto found = at.search.search(first, at.delay, near);
  // Frames may have been lost or repeated on the way here.
  if (!found || found->alike < kPlainlyAlike)
    if (auto far_off = at.search.search(first, at.delay, near + kFar);
        far_off && far_off->alike > kUsually * at.usual &&
        (!found || far_off->alike > kClearly * found->alike))
      found = far_off;
  // Where several in a row lie nowhere near, more may have been lost. Not before: of a loop, what lies
  // across a slip is whole in another cycle.
  at.missed = found && found->alike > kUsually * at.usual ? 0 : at.missed + 1;
  if (at.missed > kMostAcross) {
    auto farther = at_place_of_an_excerpt(first, at, near);
    if (!farther) farther = at.search.search(first, at.delay, near + kFarthestSlip);
    if (farther && farther->alike > kUsually * at.usual) {
      found = farther;
      at.missed = 0;
    }
  }
  if (!found || found->alike <= kNotAtAll * at.usual) return;
  at.usual = std::max(at.usual, found->alike);
  at.found.push_back(*found);
  at.delay = found->delay;
  at.known = first;
}

// Where an excerpt was found by itself, if the segment is plainly there: of those, the nearest to where the
// one before it was found.
std::optional<Segment> SegmentWalk::at_place_of_an_excerpt(std::int64_t first, const Way& at,
                                                           std::int64_t reach) {
  std::optional<Segment> nearest;
  for (const double place : places_of_excerpts()) {
    if (nearest && std::abs(place - at.delay) > std::abs(nearest->delay - at.delay)) continue;
    if (auto found = at.search.search(first, place, reach); found && found->alike > kPlainlyAlike)
      nearest = found;
  }
  return nearest;
}

const std::vector<double>& SegmentWalk::places_of_excerpts() {
  const std::lock_guard lock(asking_);
  if (!places_of_excerpts_) places_of_excerpts_ = coarse_.places_of_excerpts();
  return *places_of_excerpts_;
}

std::vector<std::vector<double>> SegmentWalk::in_phase_near(const std::vector<std::int64_t>& firsts,
                                                            double delay, std::int64_t reach) {
  std::vector<std::vector<double>> all(firsts.size());
  auto& hands = searches(length_);
  for_each_part(hands.size(), [&](std::size_t hand) {
    for (std::size_t i = hand; i < all.size(); i += hands.size())
      all[i] = hands[hand].in_phase_near(firsts[i], delay, reach);
  });
  return all;
}

// One for each thread, and for each of two ways.
std::deque<SegmentSearch>& SegmentWalk::searches(std::int64_t length) {
  if (searches_.empty() || searches_[0].length() != length) {
    searches_.clear();
    for (int i = 0; i < std::clamp(allowed_threads(), 2, kMostSearches); ++i)
      searches_.emplace_back(a_, b_, options_, length);
  }
  return searches_;
}

}  // namespace wavicon::intake_detail
