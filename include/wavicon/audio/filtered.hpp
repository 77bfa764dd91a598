// SPDX-License-Identifier: MIT
#pragma once
// Filters of finite length over samples, by transforms.

#include <complex>
#include <cstdint>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon {

/// A filter of finite length, applied block by block.
class WAVICON_EXPORT Convolver {
 public:
  /// @param taps  at least one; copied as its spectrum.
  explicit Convolver(std::span<const double> taps);
  [[nodiscard]] std::size_t tap_count() const noexcept { return tap_count_; }
  /// Samples of `out` that one pair of transforms makes: fewer cost as much.
  [[nodiscard]] std::size_t block_frames() const noexcept { return transform_.length() - (tap_count_ - 1); }
  /// out[n] = Σ taps[k]·in[n + tap_count - 1 - k].
  ///
  /// @param in  out.size() + tap_count - 1 samples; may not overlap with out.
  /// @accuracy  rounding: 1e-15 of Σ|taps| times the largest sample (filtered_test.cpp)
  void apply(std::span<const double> in, std::span<double> out);

 private:
  std::size_t tap_count_;
  RealTransform transform_;
  std::vector<std::complex<double>> spectrum_, product_;
};

/// A source heard through filters; their middle tap (taps/2) lies at the same frame.
///
/// It is filtered in blocks at fixed places, whatever is read, and the newest of them are kept (16 MB, and
/// two blocks at least): reading the same place again, or many short pieces, costs a copy.
class WAVICON_EXPORT FilteredSource : public AudioSource {
 public:
  /// @param source  outlives this. @param filters  one for each channel of it, or one for all.
  /// @throws Error bad_argument for another number of filters, or one without a tap.
  FilteredSource(AudioSource& source, const std::vector<std::vector<double>>& filters);
  [[nodiscard]] double sample_rate_hz() const noexcept override { return source_.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return source_.channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return source_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  struct Block {
    std::int64_t number = 0;
    std::uint64_t used = 0;
    std::vector<double> planar;
  };
  const Block& block(std::int64_t number);
  void fill(Block& block);

  AudioSource& source_;
  std::vector<Convolver> filters_;
  std::size_t before_ = 0, behind_ = 0;  // frames that the longest filter needs on both sides
  std::size_t block_frames_ = 0, most_blocks_ = 0;
  std::uint64_t uses_ = 0;
  std::vector<double> wide_;
  std::vector<Block> blocks_;
};

}  // namespace wavicon
