// SPDX-License-Identifier: MIT
#pragma once
// Sine, arctangent and oscillator phase from additions, multiplications, divisions and square roots alone.
// IEEE 754 rounds these in one way, so the results are the same bits on every machine, which mathematics
// libraries do not promise.

#include <cstdint>
#include <span>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A phase as a fraction of a cycle in units of 2^-64; additions wrap, so a phase never loses accuracy with
/// time.
using Phase = std::uint64_t;
/// Of a cosine before its sine.
inline constexpr Phase kQuarterCycle = Phase{1} << 62;

/// Phase that a tone gains with each frame.
///
/// @param frequency_hz    -rate/2 … +rate/2.
/// @param sample_rate_hz  above 0.
/// @accuracy  2^-65 of a cycle: after 24 h at 768 kHz the phase is wrong by less than 2e-9 cycles
/// (elementary_test.cpp).
[[nodiscard]] WAVICON_EXPORT Phase phase_step(double frequency_hz, double sample_rate_hz);

/// Phase of a number of cycles, the whole ones dropped.
[[nodiscard]] WAVICON_EXPORT Phase phase_from_cycles(double cycles);

/// sin(2π·phase). Taylor series on ±1/8 cycle. @accuracy 2.3e-16 absolute (elementary_test.cpp).
[[nodiscard]] WAVICON_EXPORT double sine(Phase phase) noexcept;
/// cos(2π·phase), accuracy as sine().
[[nodiscard]] inline double cosine(Phase phase) noexcept { return sine(phase + kQuarterCycle); }

/// sine() of all of them, bit for bit: many side by side. @param out  as long as `phases`.
WAVICON_EXPORT void sines(std::span<const Phase> phases, std::span<double> out) noexcept;
/// sine() of a steady tone, bit for bit: out[n] = sine(origin + n·step).
WAVICON_EXPORT void steady_sines(Phase origin, Phase step, std::span<double> out) noexcept;
/// phase_from_cycles() of all of them, bit for bit; |cycles| below 2^52. @param out  as long as `cycles`.
WAVICON_EXPORT void phases_from_cycles(std::span<const double> cycles, std::span<Phase> out) noexcept;

/// arctan(x) in radians; two half-angle steps, then the Taylor series. @accuracy 8e-16 relative
/// (elementary_test.cpp).
[[nodiscard]] WAVICON_EXPORT double arctangent(double x) noexcept;
/// The same of all of them, in place, bit for bit: many side by side.
WAVICON_EXPORT void arctangent(std::span<double> values) noexcept;

/// e^x for |x| <= 700, and 0 below that; reduced to ±ln(2)/2, then the Taylor series. @accuracy 4e-16
/// relative (elementary_test.cpp).
[[nodiscard]] WAVICON_EXPORT double exponential(double x) noexcept;

/// e^x - 1 without the loss near 0, |x| <= 700. @accuracy 8e-16 relative (elementary_test.cpp).
[[nodiscard]] WAVICON_EXPORT double exponential_minus_one(double x) noexcept;

/// The same of all of them, in place, bit for bit: many side by side.
WAVICON_EXPORT void exponential_minus_one(std::span<double> values) noexcept;

/// Phase of frequencies that change linearly, as 128-bit fractions of a cycle: step·n + bend·n·(n-1)/2
/// without any rounding.
class WAVICON_EXPORT GlidingPhase {
 public:
  /// @param from_hz, to_hz  at frame 0 and at `frames`, below half the rate.
  GlidingPhase(double from_hz, double to_hz, double frames, double sample_rate_hz);
  /// @param frame  0 … 2^32.
  [[nodiscard]] Phase at(std::uint64_t frame) const noexcept;
  /// The same of frames first, first + 1 …, bit for bit.
  void fill(std::uint64_t first, std::span<Phase> out) const noexcept;

 private:
  struct Wide {
    std::uint64_t high = 0;
    std::uint64_t low = 0;
  };
  Wide step_;
  Wide bend_;
};

}  // namespace wavicon
