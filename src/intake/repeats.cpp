// SPDX-License-Identifier: MIT
#include "repeats.hpp"

#include <algorithm>
#include <bit>
#include <cmath>

namespace wavicon::intake_detail {
namespace {

constexpr std::int64_t kLongestBlock = 8192;  // frames
constexpr std::int64_t kShortestBlock = 64;   // frames: a shorter one is what a tone does by itself
constexpr std::int64_t kMostCopies = 3;       // of one block in a row; more is a signal with a period
constexpr std::int64_t kChanceEqual = 3;      // frames that may equal the copy before and after it
constexpr std::size_t kSignature = 8;         // samples that have to be the same before a place is looked at
constexpr std::size_t kKept = 16;             // places that are named; the rest is counted

// Each sample has a factor of its own: no product waits for another one.
std::uint64_t signature_of(const double* last) {
  constexpr std::uint64_t kFirst = 0x9E3779B97F4A7C15, kApart = 0xD1B54A32D192ED02;  // odd, then even
  std::uint64_t sum = 0;
  for (std::size_t k = 0; k < kSignature; ++k)
    sum += (std::bit_cast<std::uint64_t>(*(last - k)) >> 20) * (kFirst + k * kApart);
  return sum ^ (sum >> 32);
}

}  // namespace

static_assert(RepeatFinder::kLookedBack > (kMostCopies + 1) * kLongestBlock + 3 * kChanceEqual);

void RepeatFinder::take(const double* x, std::uint64_t anchors, double peak) {
  std::size_t from = 0;
  if (distance_ == 0 && peak > least_ && taken_ > 0)
    for (; anchors != 0 && distance_ == 0; anchors &= anchors - 1) {
      const auto at = static_cast<std::size_t>(std::countr_zero(anchors));
      look_up(x, at);
      from = at + 1;
    }
  if (distance_ != 0) follow(x, from);
  taken_ += kChunk;
}

void RepeatFinder::look_up(const double* x, std::size_t n) {
  const std::uint64_t signature = signature_of(x + n);
  Seen& seen = seen_[signature % kSeen];
  const std::int64_t frame = taken_ + static_cast<std::int64_t>(n);
  if (seen.signature == signature && seen.frame >= 0) {
    const std::int64_t distance = frame - seen.frame;
    if (distance >= kShortestBlock && distance <= kLongestBlock) open(frame, distance);
  }
  seen = {signature, frame};
}

void RepeatFinder::open(std::int64_t frame, std::int64_t distance) {
  const std::int64_t earliest =
      std::max<std::int64_t>(distance, frame - (kMostCopies * distance + 2 * kChanceEqual));
  std::int64_t start = frame;
  while (start > earliest && before(start - 1) == before(start - 1 - distance)) --start;
  if (frame - start < static_cast<std::int64_t>(kSignature) - 1) return;
  distance_ = distance;
  start_ = start;
  endless_ = false;
}

void RepeatFinder::follow(const double* x, std::size_t from) {
  for (std::size_t n = from; n < kChunk; ++n)
    if (x[n] != before(taken_ + static_cast<std::int64_t>(n) - distance_))
      return close(taken_ + static_cast<std::int64_t>(n));
  endless_ = endless_ || taken_ - start_ > kMostCopies * distance_ + 2 * kChanceEqual;
}

void RepeatFinder::close(std::int64_t end) {
  if (distance_ == 0) return;
  const std::int64_t length = end - start_, distance = distance_;
  distance_ = 0;
  const std::int64_t copies = (length + distance / 2) / distance;
  const bool whole = copies >= 1 && copies <= kMostCopies &&
                     std::abs(length - copies * distance) <= kChanceEqual && !endless_;
  if (!whole) return;
  // Sound on both sides: a burst that was played twice has silence around it.
  const bool within = before(start_ - distance - 1) != 0 && before(end) != 0;
  if (!within || start_ <= distance) return;
  ++count;
  if (found.size() < kKept) found.push_back({start_, copies * distance});
}

}  // namespace wavicon::intake_detail
