// SPDX-License-Identifier: MIT
#pragma once
// How a sample is held: the formats that audio is stored in, and the way into them.

#include <cstdint>
#include <span>
#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// float64 is audio in memory that was never stored.
enum class SampleFormat { pcm8, pcm16, pcm24, pcm32, float32, float64 };

[[nodiscard]] WAVICON_EXPORT bool is_integer(SampleFormat format) noexcept;
/// Word length: 8, 16, 24, 32 or 64.
[[nodiscard]] WAVICON_EXPORT int bits(SampleFormat format) noexcept;
/// "16-bit", "24-bit", "32-bit float", …
[[nodiscard]] WAVICON_EXPORT std::string name_of(SampleFormat format);

/// Brings samples to what a format can hold.
///
/// Integer formats: full scale 1 is 2^(bits-1) steps; rounding to nearest, halves to even. With TPDF dither,
/// noise of ±1 step with triangular density (variance 1/6 step²) is added first, which makes the error
/// independent of the signal in mean and variance (Lipshitz, Wannamaker, Vanderkooy, JAES 40(5), 1992, to
/// verify). The highest code is one step below +1, so a tone of 0 dBFS loses at most one step at its positive
/// peak. Thread-safe: dither depends on position alone.
class WAVICON_EXPORT Quantiser {
 public:
  Quantiser(SampleFormat format, bool dither, std::uint64_t seed) noexcept;

  [[nodiscard]] SampleFormat format() const noexcept { return format_; }
  /// Code of a sample, integer formats only: -2^(bits-1) … 2^(bits-1)-1; samples beyond are held at the ends.
  [[nodiscard]] std::int32_t code(double sample, int channel, std::int64_t frame) const noexcept;
  /// code() of each of whole frames, channel after channel within a frame.
  ///
  /// @param first_frame  the one that `interleaved` begins with.
  /// @param out          as long as `interleaved`.
  void codes(std::span<const double> interleaved, int channel_count, std::int64_t first_frame,
             std::span<std::int32_t> out) const noexcept;
  /// The value that the format holds for a sample.
  [[nodiscard]] double value(double sample, int channel, std::int64_t frame) const noexcept;
  /// Whether a sample lies beyond full scale, by more than rounding takes back; never for float formats.
  [[nodiscard]] bool clips(double sample) const noexcept;

 private:
  SampleFormat format_;
  bool dither_;
  std::uint64_t seed_;
  double steps_at_full_scale_;  ///< 2^(bits-1)
};

}  // namespace wavicon
