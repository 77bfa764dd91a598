// SPDX-License-Identifier: MIT
#include "jumps.hpp"

#include <algorithm>
#include <bit>
#include <cmath>

namespace wavicon::intake_detail {
namespace {

constexpr double kAroundS = 0.05;          // on either side: two periods of the deepest voice
constexpr std::int64_t kFewestAround = 7;  // chunks, at rates below 8 kHz
constexpr double kStandsOut = 8;           // over what lies around: 18 dB; noise keeps to 2
constexpr std::size_t kExceptions =
    3;                             // chunks around that may jump as well: the other edge of a longer click
constexpr std::size_t kEdge = 16;  // a jump this close to the next chunk shows there as well
constexpr std::size_t kKept = 16;  // places that are named; the rest is counted

}  // namespace

JumpFinder::JumpFinder(double sample_rate_hz, double least)
    : least_(least),
      reach_(std::max<std::int64_t>(
          kFewestAround, static_cast<std::int64_t>(std::ceil(kAroundS * sample_rate_hz / kChunk)))),
      highest_(std::bit_ceil(static_cast<std::size_t>(2 * reach_ + 1)), 0.0),
      at_(highest_.size(), 0) {}

bool JumpFinder::may_stand_out(double highest) const {
  if (highest < least_) return false;
  // Before the first chunk there are zeros in the ring.
  double lowest = highest;
  for (std::int64_t back = 1; back <= static_cast<std::int64_t>(kExceptions) + 2; ++back)
    lowest = std::min(lowest, highest_[slot(taken_ - back)]);
  return lowest <= highest / kStandsOut;
}

void JumpFinder::take(double highest, std::size_t at) {
  highest_[slot(taken_)] = highest;
  at_[slot(taken_)] = at;
  ++taken_;
  if (taken_ > reach_) decide(taken_ - 1 - reach_);
}

void JumpFinder::finish() {
  for (std::int64_t chunk = std::max<std::int64_t>(0, taken_ - reach_); chunk < taken_; ++chunk)
    decide(chunk);
}

void JumpFinder::decide(std::int64_t chunk) {
  const std::size_t at = at_[slot(chunk)];
  if (at == kNowhere) return;
  const double here = highest_of(chunk);
  // The second edge of a click is told with the first.
  if (std::max(highest_of(chunk - 1), highest_of(chunk - 2)) > here) return;
  const double limit = here / kStandsOut;
  std::size_t others = 0;
  for (std::int64_t away = 1; away <= reach_; ++away) {
    const bool shared_before = away == 1 && at < kEdge, shared_after = away == 1 && at + kEdge >= kChunk;
    if (!shared_before && highest_of(chunk - away) > limit) ++others;
    if (!shared_after && highest_of(chunk + away) > limit) ++others;
    if (others > kExceptions) return;
  }
  ++count;
  const std::int64_t frame = chunk * static_cast<std::int64_t>(kChunk) + static_cast<std::int64_t>(at);
  if (found.size() < kKept) found.push_back({frame, 1});
}

}  // namespace wavicon::intake_detail
