// SPDX-License-Identifier: MIT
#include "chunk.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>

#include "audio/wide.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::size_t kLanes = 4;  // doubles side by side

// Sums and highest values run in lanes of their own, each in one register.
using Lanes = double __attribute__((vector_size(kLanes * sizeof(double))));
using Masks = std::int64_t __attribute__((vector_size(kLanes * sizeof(double))));

WAVICON_WIDE void look(const double* x, ChunkFacts* facts) {
  Lanes sum{}, peak{}, jump{};
  Masks equal{}, no_anchor = Masks{} - 1;
  for (std::size_t n = 0; n < kChunk; n += kLanes) {
    const double* at = x + n;
    Lanes now, one, two, three;
    std::memcpy(&now, at, sizeof now);
    std::memcpy(&one, at - 1, sizeof one);
    std::memcpy(&two, at - 2, sizeof two);
    std::memcpy(&three, at - 3, sizeof three);
    const Masks bits = reinterpret_cast<Masks>(now), magnitude = bits & std::int64_t{0x7FFFFFFFFFFFFFFF};
    const Lanes size = reinterpret_cast<Lanes>(magnitude);
    const Lanes change = (now - three) - 3.0 * (one - two);
    const Lanes steep =
        reinterpret_cast<Lanes>(reinterpret_cast<Masks>(change) & std::int64_t{0x7FFFFFFFFFFFFFFF});
    sum += now;
    peak = size > peak ? size : peak;
    jump = steep > jump ? steep : jump;
    equal |= (now == one) & (one == two);
    // Shifts of what is below zero bring in ones; these are cut off with the rest.
    no_anchor &= ((bits >> 29 ^ bits >> 37 ^ bits >> 44) & static_cast<std::int64_t>(kAnchorBits)) != 0;
  }
  facts->sum = (sum[0] + sum[1]) + (sum[2] + sum[3]);
  facts->peak = std::max({peak[0], peak[1], peak[2], peak[3]});
  facts->jump = std::max({jump[0], jump[1], jump[2], jump[3]});
  facts->three_equal = (equal[0] | equal[1] | equal[2] | equal[3]) != 0;
  facts->anchors = (no_anchor[0] & no_anchor[1] & no_anchor[2] & no_anchor[3]) == 0;
}

WAVICON_WIDE void join_codes(const double* x, std::int32_t* any, std::int32_t* all, std::int32_t* misfit) {
  std::int32_t some[kLanes] = {}, every[kLanes] = {-1, -1, -1, -1}, wrong[kLanes] = {};
  for (std::size_t n = 0; n < kChunk; n += kLanes)
    for (std::size_t k = 0; k < kLanes; ++k) {
      const double steps = x[n + k] * 0x1p23;
      const double held = std::min(std::max(steps, -0x1p24), 0x1p24);
      const auto code = static_cast<std::int32_t>(held);
      wrong[k] |= static_cast<std::int32_t>(static_cast<double>(code) != steps);
      some[k] |= code;
      every[k] &= code;
    }
  *any = some[0] | some[1] | some[2] | some[3];
  *all = every[0] & every[1] & every[2] & every[3];
  *misfit = wrong[0] | wrong[1] | wrong[2] | wrong[3];
}

}  // namespace

ChunkFacts examine(const double* x) noexcept {
  ChunkFacts facts;
  look(x, &facts);
  return facts;
}

void CodeBits::take(const double* x) noexcept {
  std::int32_t some = 0, every = 0, misfit = 0;
  join_codes(x, &some, &every, &misfit);
  fits = fits && misfit == 0;
  any |= static_cast<std::uint32_t>(some) & 0xFFFFFF;
  all &= static_cast<std::uint32_t>(every);
}

}  // namespace wavicon::intake_detail
