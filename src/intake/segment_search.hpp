// SPDX-License-Identifier: MIT
#pragma once
// Where one segment of the reference lies in the capture, near a delay that is expected. Internal to
// `intake`.

#include <complex>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "delay_line.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

/// Correlation of a segment with what lies there, from which it is believed.
inline constexpr double kAlike = 0.1;

/// Searches for segments of one length. For one thread at a time.
class SegmentSearch {
 public:
  /// @param reference, capture  kept by reference.
  SegmentSearch(AudioSource& reference, AudioSource& capture, const AlignOptions& options,
                std::int64_t length)
      : a_(reference), b_(capture), options_(options), length_(length) {}

  [[nodiscard]] std::int64_t length() const noexcept { return length_; }
  /// How far a segment and what lies at each delay from delay - reach to delay + reach agree in phase, -1 …
  /// 1; empty where one is silent.
  [[nodiscard]] std::vector<double> in_phase_near(std::int64_t first, double delay, std::int64_t reach);
  /// The delay, no farther than reach from the one that is expected, at which both are most alike, whitened
  /// in part; none when they are not alike as they are.
  [[nodiscard]] std::optional<Segment> search(std::int64_t first, double delay, std::int64_t reach);

 private:
  // A segment of the reference, and its spectrum.
  struct Own {
    std::int64_t first = 0;
    std::size_t transform = 0;  // its length; 0: none yet
    std::vector<double> samples;
    double power = 0;  // Σx²
    std::vector<std::complex<double>> bins;
    double weak = 0;  // size of a bin that counts as weak
  };
  [[nodiscard]] RealTransform& transform_for(std::int64_t reach);
  const Own& own(std::int64_t first, RealTransform& transform);
  [[nodiscard]] static std::vector<std::complex<double>> whitened(const Own& own, std::span<const double> y,
                                                                  RealTransform& transform);

  AudioSource& a_;
  AudioSource& b_;
  AlignOptions options_;
  std::int64_t length_;
  RealTransforms transforms_;
  Own own_;  // the one that was looked for last: it is looked for at several delays
};

}  // namespace wavicon::intake_detail
