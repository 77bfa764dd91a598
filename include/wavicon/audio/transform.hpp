// SPDX-License-Identifier: MIT
#pragma once
// Fourier transforms of real samples: the whole spectrum, planned once and reused, or one frequency exactly.

#include <complex>
#include <cstddef>
#include <map>
#include <memory>
#include <span>
#include <vector>

#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A length at or above `least` whose transform is fast, planning included: a power of two up to 2^18, beyond
/// that the next even 2^a·3^b·5^c·7^d.
[[nodiscard]] WAVICON_EXPORT std::size_t fast_transform_length(std::size_t least);

/// Real-to-complex transform of a fixed length: bins()[k] = Σ input()[n]·exp(-2πi·k·n/length).
///
/// Construction plans (allocates, takes a global lock); execute() neither allocates nor locks. One object
/// serves one thread at a time. The plan is a fixed choice for the length, so results are the same in every
/// run.
class WAVICON_EXPORT RealTransform {
 public:
  /// @param length  at least 1. @throws Error bad_argument otherwise.
  explicit RealTransform(std::size_t length);
  ~RealTransform();
  RealTransform(RealTransform&&) noexcept;
  RealTransform& operator=(RealTransform&&) noexcept;

  [[nodiscard]] std::size_t length() const noexcept;
  /// `length` samples; the content is undefined after execute().
  [[nodiscard]] std::span<double> input() noexcept;
  /// length/2 + 1 values, valid until the next execute().
  [[nodiscard]] std::span<const std::complex<double>> bins() const noexcept;
  void execute() noexcept;
  /// The same of these samples, with zeros behind. @param samples  at most `length` of them.
  void execute(std::span<const double> samples) noexcept;
  /// Their bins, to be kept.
  [[nodiscard]] std::vector<std::complex<double>> bins_of(std::span<const double> samples);
  /// execute() of which the powers alone are wanted, without a detour by bins(), which are undefined
  /// afterwards.
  ///
  /// @param squares  length/2 + 1 values: scale·|bin|².
  /// @return the sum of the samples, which is what bin 0 holds.
  double execute_squares(double scale, std::span<double> squares) noexcept;
  /// The way back: samples whose bins these are, scaled so that it undoes execute(). Plans at its first call.
  ///
  /// @param bins  length/2 + 1 values. @return `length` samples, valid until the next call of either way.
  [[nodiscard]] std::span<const double> invert(std::span<const std::complex<double>> bins);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// Transforms planned once and used again; for one thread at a time.
class WAVICON_EXPORT RealTransforms {
 public:
  /// Valid as long as this object.
  [[nodiscard]] RealTransform& get(std::size_t length);

 private:
  std::map<std::size_t, RealTransform> transforms_;
};

/// Spectrum of a run of samples at one frequency, with its first two derivatives' sums.
struct ToneSums {
  std::complex<double> zeroth;  ///< Σ x[n]·e^{-2πi·f·n}
  std::complex<double> first;   ///< Σ n·x[n]·e^{-2πi·f·n}
  std::complex<double> second;  ///< Σ n²·x[n]·e^{-2πi·f·n}
};

/// @param samples  n counts from the first one.
/// @param step     frequency as phase per frame (phase_step()).
/// @accuracy       rounding only: 1e-15 of Σ|x| (transform_test.cpp).
[[nodiscard]] WAVICON_EXPORT std::complex<double> tone_sum(std::span<const double> samples, Phase step);
[[nodiscard]] WAVICON_EXPORT ToneSums tone_sums(std::span<const double> samples, Phase step);

/// Adds Re(amplitude·e^{2πi·f·n}) to samples[n]; step and accuracy as tone_sum().
WAVICON_EXPORT void add_tone(std::span<double> samples, Phase step, std::complex<double> amplitude);

}  // namespace wavicon
