#include "wavicon/audio/elementary.hpp"

#include <cmath>
#include <numbers>

namespace wavicon {
namespace {

constexpr double kRadiansPerPhaseUnit = 2.0 * std::numbers::pi / 18446744073709551616.0;  // 2π / 2^64
constexpr double kTwoTo32 = 4294967296.0;
constexpr double kTwoTo64 = 18446744073709551616.0;

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

double arctangent(double x) noexcept {
  if (std::isnan(x)) return x;
  const double size = std::abs(x);
  if (size > 1.0) return std::copysign(std::numbers::pi / 2.0 - arctangent(1.0 / size), x);
  // arctan(x) = 2·arctan(x / (1 + sqrt(1 + x²))), twice: leaves at most tan(π/16) = 0.199.
  double t = x / (1.0 + std::sqrt(1.0 + x * x));
  t = t / (1.0 + std::sqrt(1.0 + t * t));
  const double s = t * t;
  double sum = 0.0;
  for (int k = 21; k >= 3; k -= 2) sum = s * (((k / 2) % 2 == 1 ? -1.0 : 1.0) / k + sum);
  return 4.0 * (t + t * sum);
}

}  // namespace wavicon
