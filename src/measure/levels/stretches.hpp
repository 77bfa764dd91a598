// SPDX-License-Identifier: MIT
#pragma once
// How far figures of one stretch may lie from those of another of its kind: by what its parts differ.
// Internal to `measure`.

#include <cstdint>
#include <optional>
#include <vector>

namespace wavicon::measure_detail {

/// Sixteen to thirty-one equal parts of a stretch whose length is not known beforehand: when there are
/// thirty-two, each two become one.
class Stretches {
 public:
  explicit Stretches(std::size_t channels) : open_(channels), parts_(channels) {}

  /// Takes all memory that there will be.
  void reserve();
  /// Frames that may be added before a part is full.
  [[nodiscard]] std::int64_t left() const { return length_ - filled_; }
  /// Σx², Σx and the largest magnitude of frames of one channel; then `advance` once for all channels.
  void add(std::size_t channel, double square, double plain, double highest);
  /// @param frames  at most left().
  void advance(std::int64_t frames);

  /// Half the intervals that hold the value of all stretches of this kind in 95 of 100 cases.
  struct Uncertainty {
    double mean_square = 0;  ///< share of it
    double mean = 0;         ///< full scale = 1
    double highest = 0;      ///< share of it
  };
  /// By Student's t over the parts; the highest of all by what the parts' own scatter, × 1.75 (by repetition
  /// with noise, in levels_uncertainty_test.cpp). None for fewer than sixteen parts, for silence, and where a
  /// part is 3 dB off the mean: what moves has the level that it has, and no other.
  [[nodiscard]] std::optional<Uncertainty> uncertainty(std::size_t channel) const;

 private:
  struct Part {
    double square = 0, plain = 0, highest = 0;
  };
  std::int64_t length_ = 64;  // frames of a part
  std::int64_t filled_ = 0;
  std::vector<Part> open_;
  std::vector<std::vector<Part>> parts_;  // of each channel
};

}  // namespace wavicon::measure_detail
