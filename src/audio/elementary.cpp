// SPDX-License-Identifier: MIT
#include "wavicon/audio/elementary.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <numbers>

#include "audio/wide.hpp"

namespace wavicon {
namespace {

constexpr double kRadiansPerPhaseUnit = 2.0 * std::numbers::pi / 18446744073709551616.0;  // 2π / 2^64
constexpr double kTwoTo32 = 4294967296.0;            // exact: a phase is 64 bits, cut in halves
constexpr double kTwoTo64 = 18446744073709551616.0;  // exact: steps of a phase in a cycle

// Taylor series for |x| <= π/4; the first term left out is below 2^-53 of the result.
double sine_near_zero(double x) {
  const double s = x * x;
  double sum = 1.0 / 355687428096000.0;  // 1/17!
  sum = -1.0 / 1307674368000.0 + s * sum;
  sum = 1.0 / 6227020800.0 + s * sum;
  sum = -1.0 / 39916800.0 + s * sum;
  sum = 1.0 / 362880.0 + s * sum;
  sum = -1.0 / 5040.0 + s * sum;
  sum = 1.0 / 120.0 + s * sum;
  sum = -1.0 / 6.0 + s * sum;
  return x + x * s * sum;
}

double cosine_near_zero(double x) {
  const double s = x * x;
  double sum = 1.0 / 20922789888000.0;  // 1/16!
  sum = -1.0 / 87178291200.0 + s * sum;
  sum = 1.0 / 479001600.0 + s * sum;
  sum = -1.0 / 3628800.0 + s * sum;
  sum = 1.0 / 40320.0 + s * sum;
  sum = -1.0 / 720.0 + s * sum;
  sum = 1.0 / 24.0 + s * sum;
  return 1.0 - s * (0.5 - s * sum);
}

}  // namespace

Phase phase_step(double frequency_hz, double sample_rate_hz) {
  // Quotient in two parts: the rounded one and, by an exact remainder, what the rounding lost.
  const double quotient = frequency_hz / sample_rate_hz;
  const double lost = std::fma(-quotient, sample_rate_hz, frequency_hz) / sample_rate_hz;
  return phase_from_cycles(quotient) + static_cast<Phase>(std::llround(lost * kTwoTo64));
}

Phase phase_from_cycles(double cycles) {
  // 1 - x would round away the lowest bits of a small x; turning backwards does not.
  if (cycles < 0) return Phase{0} - phase_from_cycles(-cycles);
  const double fraction = cycles - std::floor(cycles);
  const double scaled = fraction * kTwoTo32;
  const double high = std::floor(scaled);
  // Halves of 32 bits: a fraction that rounds up to a whole cycle wraps to 0 instead of overflowing.
  return (static_cast<Phase>(high) << 32) + static_cast<Phase>(std::llround((scaled - high) * kTwoTo32));
}

double sine(Phase phase) noexcept {
  constexpr Phase kEighth = Phase{1} << 61;
  const Phase shifted = phase + kEighth;
  const auto quadrant = static_cast<int>(shifted >> 62);
  const auto rest = static_cast<std::int64_t>((shifted & ((Phase{1} << 62) - 1)) - kEighth);
  const double x = static_cast<double>(rest) * kRadiansPerPhaseUnit;
  switch (quadrant) {
    case 0:
      return sine_near_zero(x);
    case 1:
      return cosine_near_zero(x);
    case 2:
      return -sine_near_zero(x);
    default:
      return -cosine_near_zero(x);
  }
}

namespace {

constexpr std::size_t kRow = 64;  // phases side by side
constexpr double kTwoTo52 = 4503599627370496.0;
constexpr std::uint64_t kBitsOfTwoTo52 = 0x4330000000000000;

// Of an integer in [0, 2^52): its bits behind those of 2^52. Registers know how; the instruction for it is
// younger.
double double_of(std::uint64_t small) { return std::bit_cast<double>(small | kBitsOfTwoTo52) - kTwoTo52; }
std::uint64_t integer_of(double small) {
  return std::bit_cast<std::uint64_t>(small + kTwoTo52) & (kBitsOfTwoTo52 ^ ~std::uint64_t{0});
}

WAVICON_WIDE void sines_of_a_row(const Phase* __restrict phases, double* __restrict out,
                                 std::size_t count) noexcept {
  constexpr Phase kEighth = Phase{1} << 61;
  for (std::size_t i = 0; i < count; ++i) {
    const Phase shifted = phases[i] + kEighth;
    // The rest of the quadrant, -2^61 … 2^61, in halves that are exact: their sum is rounded once, as the
    // conversion of the whole would be.
    const Phase above = shifted & ((Phase{1} << 62) - 1);
    const double high = double_of(above >> 32) - static_cast<double>(kEighth >> 32),
                 low = double_of(above & 0xFFFFFFFF);
    const double x = (high * kTwoTo32 + low) * kRadiansPerPhaseUnit;
    const double is_cosine = double_of((shifted >> 62) & 1);
    const double value = is_cosine != 0 ? cosine_near_zero(x) : sine_near_zero(x);
    // Half a cycle turns the sign.
    out[i] = std::bit_cast<double>(std::bit_cast<std::uint64_t>(value) ^ (shifted & (Phase{1} << 63)));
  }
}

WAVICON_WIDE void phases_of_a_row(const double* __restrict cycles, Phase* __restrict out,
                                  std::size_t count) noexcept {
  for (std::size_t i = 0; i < count; ++i) {
    const double size = std::abs(cycles[i]), fraction = size - std::floor(size), scaled = fraction * kTwoTo32,
                 high = std::floor(scaled), rest = (scaled - high) * kTwoTo32, low = std::floor(rest);
    const Phase phase = (integer_of(high) << 32) + integer_of(low) + (rest - low >= 0.5 ? 1 : 0);
    out[i] = cycles[i] < 0 ? Phase{0} - phase : phase;
  }
}

}  // namespace

void sines(std::span<const Phase> phases, std::span<double> out) noexcept {
  sines_of_a_row(phases.data(), out.data(), std::min(phases.size(), out.size()));
}

void steady_sines(Phase origin, Phase step, std::span<double> out) noexcept {
  std::array<Phase, kRow> phases{};
  for (std::size_t first = 0; first < out.size(); first += kRow) {
    const std::size_t count = std::min(kRow, out.size() - first);
    for (std::size_t i = 0; i < count; ++i) phases[i] = origin + step * (first + i);
    sines_of_a_row(phases.data(), out.data() + first, count);
  }
}

void phases_from_cycles(std::span<const double> cycles, std::span<Phase> out) noexcept {
  phases_of_a_row(cycles.data(), out.data(), std::min(cycles.size(), out.size()));
}

namespace {

WAVICON_WITHIN_WIDE double arctangent_of(double x) {
  const double size = std::abs(x);
  // arctan(x) = π/2 - arctan(1/x), and 2·arctan(x / (1 + sqrt(1 + x²))), twice: leaves at most tan(π/16) =
  // 0.199.
  double t = size > 1.0 ? 1.0 / size : size;
  t = t / (1.0 + std::sqrt(1.0 + t * t));
  t = t / (1.0 + std::sqrt(1.0 + t * t));
  const double s = t * t;
  double sum = 0.0;
  for (int k = 21; k >= 3; k -= 2) sum = s * (((k / 2) % 2 == 1 ? -1.0 : 1.0) / k + sum);
  const double turn = 4.0 * (t + t * sum);
  return std::copysign(size > 1.0 ? std::numbers::pi / 2.0 - turn : turn, x);
}

WAVICON_WIDE void arctangents_of(double* values, std::size_t count) noexcept {
  for (std::size_t i = 0; i < count; ++i) values[i] = arctangent_of(values[i]);
}

}  // namespace

double arctangent(double x) noexcept { return arctangent_of(x); }

void arctangent(std::span<double> values) noexcept { arctangents_of(values.data(), values.size()); }

namespace {

__extension__ using Wide128 = unsigned __int128;

constexpr double kLn2High = 6.93147180369123816490e-01,
                 kLn2Low = 1.90821492927058770002e-10;  // ln 2 in two parts

// e^r - 1 for |r| <= ln(2)/2.
double exponential_series(double r) {
  double sum = 0.0;
  for (int k = 16; k >= 2; --k) sum = (sum + 1.0) * r / k;
  return (sum + 1.0) * r;
}

// A number in (-0.5, 0.5) as a fraction of 2^128, to 2^-117 of the number and 2^-128.
Wide128 wide_fraction(double value) {
  const double size = std::abs(value) * kTwoTo64;
  const double whole = std::floor(size);
  const auto high = static_cast<Wide128>(static_cast<std::uint64_t>(whole)) << 64;
  const Wide128 result = high + static_cast<Wide128>((size - whole) * kTwoTo64);
  return value < 0 ? Wide128{0} - result : result;
}

// numerator/denominator with the rounding of the division put back, as a fraction of 2^128.
Wide128 wide_ratio(double numerator, double denominator) {
  const double quotient = numerator / denominator;
  const double lost = std::fma(-quotient, denominator, numerator) / denominator;
  return wide_fraction(quotient) + wide_fraction(lost);
}

}  // namespace

double exponential_minus_one(double x) noexcept {
  if (x < -700.0) return -1.0;
  const double k = std::nearbyint(x / std::numbers::ln2);
  const double r = (x - k * kLn2High) - k * kLn2Low;
  const double scale = std::ldexp(1.0, static_cast<int>(k));
  return scale * exponential_series(r) + (scale - 1.0);
}

namespace {

constexpr std::size_t kSide = 8;  // side by side: each waits for its own divisions alone

WAVICON_WIDE void exponential_minus_one_of_eight(double* x) noexcept {
  double r[kSide], scale[kSide], sum[kSide] = {};
  for (std::size_t i = 0; i < kSide; ++i) {
    const double k = std::nearbyint(x[i] / std::numbers::ln2);
    r[i] = (x[i] - k * kLn2High) - k * kLn2Low;
    scale[i] = std::bit_cast<double>(static_cast<std::uint64_t>(static_cast<std::int64_t>(k) + 1023) << 52);
  }
  for (int k = 16; k >= 2; --k)
    for (std::size_t i = 0; i < kSide; ++i) sum[i] = (sum[i] + 1.0) * r[i] / k;
  for (std::size_t i = 0; i < kSide; ++i) x[i] = scale[i] * ((sum[i] + 1.0) * r[i]) + (scale[i] - 1.0);
}

}  // namespace

void exponential_minus_one(std::span<double> values) noexcept {
  std::size_t n = 0;
  for (; n + kSide <= values.size(); n += kSide) {
    const auto eight = values.subspan(n, kSide);
    if (std::all_of(eight.begin(), eight.end(), [](double x) { return std::abs(x) <= 700; }))
      exponential_minus_one_of_eight(eight.data());
    else
      for (double& x : eight) x = exponential_minus_one(x);
  }
  for (; n < values.size(); ++n) values[n] = exponential_minus_one(values[n]);
}

double exponential(double x) noexcept {
  if (x < -700.0) return 0.0;
  const double below = exponential_minus_one(x);
  // Far below 0 the difference from -1 would hold no digits: the reciprocal does.
  return x < -0.5 ? 1.0 / (exponential_minus_one(-x) + 1.0) : below + 1.0;
}

GlidingPhase::GlidingPhase(double from_hz, double to_hz, double frames, double sample_rate_hz) {
  const Wide128 bend = wide_ratio(to_hz - from_hz, frames * sample_rate_hz);
  // Halfway between two frames the frequency is that of their middle: φ(n) = f0·n + bend·n²/2 = (f0 +
  // bend/2)·n + bend·n·(n-1)/2.
  const Wide128 half_bend = to_hz < from_hz ? Wide128{0} - ((Wide128{0} - bend) >> 1) : bend >> 1;
  const Wide128 step = wide_ratio(from_hz, sample_rate_hz) + half_bend;
  step_ = {static_cast<std::uint64_t>(step >> 64), static_cast<std::uint64_t>(step)};
  bend_ = {static_cast<std::uint64_t>(bend >> 64), static_cast<std::uint64_t>(bend)};
}

Phase GlidingPhase::at(std::uint64_t frame) const noexcept {
  const Wide128 step = (static_cast<Wide128>(step_.high) << 64) + step_.low;
  const Wide128 bend = (static_cast<Wide128>(bend_.high) << 64) + bend_.low;
  const Wide128 pairs = static_cast<Wide128>(frame) * (frame - (frame > 0 ? 1 : 0)) / 2;
  return static_cast<Phase>((step * frame + bend * pairs) >> 64);
}

void GlidingPhase::fill(std::uint64_t first, std::span<Phase> out) const noexcept {
  const Wide128 step = (static_cast<Wide128>(step_.high) << 64) + step_.low;
  const Wide128 bend = (static_cast<Wide128>(bend_.high) << 64) + bend_.low;
  const Wide128 pairs = static_cast<Wide128>(first) * (first - (first > 0 ? 1 : 0)) / 2;
  // From one frame to the next the phase gains step + bend·n; whole cycles wrap.
  Wide128 phase = step * first + bend * pairs, gain = step + bend * first;
  for (Phase& value : out) {
    value = static_cast<Phase>(phase >> 64);
    phase += gain;
    gain += bend;
  }
}

}  // namespace wavicon
