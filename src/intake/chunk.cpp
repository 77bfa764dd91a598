// SPDX-License-Identifier: MIT
#include "chunk.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>

#include "audio/eight_wide.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::size_t kLanes = 4;  // doubles side by side

// Sums and highest values run in lanes of their own, each in one register.
using Lanes = double __attribute__((vector_size(kLanes * sizeof(double))));
using Masks = std::int64_t __attribute__((vector_size(kLanes * sizeof(double))));
using Bits = std::uint64_t __attribute__((vector_size(kLanes * sizeof(double))));

// Two runs of lanes, each of which waits for itself alone; the sum keeps to one order.
WAVICON_WIDE void look(const double* x, ChunkFacts* facts) {
  constexpr std::uint64_t kMagnitude = 0x7FFFFFFFFFFFFFFF;
  Lanes sum{}, peak[2] = {}, jump[2] = {};
  Masks equal[2] = {}, anchors[2] = {}, bit = Masks{} + 1;
  for (std::size_t n = 0; n < kChunk; n += 2 * kLanes) {
    for (std::size_t side = 0; side < 2; ++side) {
      const double* at = x + n + side * kLanes;
      Lanes now, one, two, three;
      std::memcpy(&now, at, sizeof now);
      std::memcpy(&one, at - 1, sizeof one);
      std::memcpy(&two, at - 2, sizeof two);
      std::memcpy(&three, at - 3, sizeof three);
      const Bits bits = reinterpret_cast<Bits>(now);
      const Lanes size = reinterpret_cast<Lanes>(bits & kMagnitude);
      const Lanes change = (now - three) - 3.0 * (one - two);
      const Lanes steep = reinterpret_cast<Lanes>(reinterpret_cast<Bits>(change) & kMagnitude);
      sum += now;
      peak[side] = size > peak[side] ? size : peak[side];
      jump[side] = steep > jump[side] ? steep : jump[side];
      equal[side] |= (now == one) & (one == two);
      anchors[side] |= (((bits ^ bits >> 8 ^ bits >> 15) & kAnchorBits) == 0) & bit;
    }
    bit += bit;
  }
  facts->sum = (sum[0] + sum[1]) + (sum[2] + sum[3]);
  const Lanes top = peak[0] > peak[1] ? peak[0] : peak[1], steepest = jump[0] > jump[1] ? jump[0] : jump[1];
  const Masks same = equal[0] | equal[1];
  facts->peak = std::max(std::max(top[0], top[1]), std::max(top[2], top[3]));
  facts->jump = std::max(std::max(steepest[0], steepest[1]), std::max(steepest[2], steepest[3]));
  facts->three_equal = (same[0] | same[1] | same[2] | same[3]) != 0;
  // Bit i of a lane stands for sample 2·kLanes·i, and so on: eight of them, a byte of the result each.
  facts->anchors = 0;
  for (std::size_t side = 0; side < 2; ++side)
    for (std::size_t k = 0; k < kLanes; ++k)
      for (auto left = static_cast<std::uint64_t>(anchors[side][k]); left != 0; left &= left - 1)
        facts->anchors |= std::uint64_t{1} << (2 * kLanes * static_cast<std::size_t>(std::countr_zero(left)) +
                                               side * kLanes + k);
}

#ifdef WAVICON_EIGHT_WIDE

// The same of eight samples at once, in half the time: what is equal and what is an anchor are bits of a
// register from the start. The sum keeps the order of the narrow way.
__attribute__((target("avx512f"))) void look_eight_wide(const double* x, ChunkFacts* facts) {
  const __m512i magnitude = _mm512_set1_epi64(0x7FFFFFFFFFFFFFFF),
                anchor_bits = _mm512_set1_epi64(static_cast<std::int64_t>(kAnchorBits));
  const auto size_of = [&](__m512d values) __attribute__((target("avx512f"))) {
    return _mm512_castsi512_pd(_mm512_and_epi64(_mm512_castpd_si512(values), magnitude));
  };
  constexpr int kOddParity = 0x96;  // of three bits
  __m256d sum = _mm256_setzero_pd();
  __m512d peak = _mm512_setzero_pd(), jump = _mm512_setzero_pd();
  unsigned equal = 0;
  facts->anchors = 0;
  for (std::size_t n = 0; n < kChunk; n += 8) {
    const double* at = x + n;
    const __m512d now = _mm512_loadu_pd(at), one = _mm512_loadu_pd(at - 1), two = _mm512_loadu_pd(at - 2),
                  three = _mm512_loadu_pd(at - 3);
    sum = _mm256_add_pd(sum, _mm512_castpd512_pd256(now));
    sum = _mm256_add_pd(sum, _mm512_extractf64x4_pd(now, 1));
    const __m512d change =
        _mm512_sub_pd(_mm512_sub_pd(now, three), _mm512_mul_pd(_mm512_set1_pd(3.0), _mm512_sub_pd(one, two)));
    peak = _mm512_max_pd(size_of(now), peak);
    jump = _mm512_max_pd(size_of(change), jump);
    equal |= _mm512_mask_cmp_pd_mask(_mm512_cmp_pd_mask(now, one, _CMP_EQ_OQ), one, two, _CMP_EQ_OQ);
    const __m512i bits = _mm512_castpd_si512(now);
    const __m512i mixed =
        _mm512_ternarylogic_epi64(bits, _mm512_srli_epi64(bits, 8), _mm512_srli_epi64(bits, 15), kOddParity);
    facts->anchors |= std::uint64_t{_mm512_testn_epi64_mask(mixed, anchor_bits)} << n;
  }
  double sums[4];
  _mm256_storeu_pd(sums, sum);
  facts->sum = (sums[0] + sums[1]) + (sums[2] + sums[3]);
  facts->peak = _mm512_reduce_max_pd(peak);
  facts->jump = _mm512_reduce_max_pd(jump);
  facts->three_equal = equal != 0;
}

#endif

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
#ifdef WAVICON_EIGHT_WIDE
  if (runs_eight_wide()) {
    look_eight_wide(x, &facts);
    return facts;
  }
#endif
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
