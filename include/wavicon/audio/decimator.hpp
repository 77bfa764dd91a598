// SPDX-License-Identifier: MIT
#pragma once
// Every n-th sample of a low-passed signal: a long one brought down to what its low frequencies need.

#include <cstddef>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Kaiser-windowed low-pass (80 dB) of 16 samples of the low rate, evaluated once per output.
class WAVICON_EXPORT Decimator {
 public:
  /// @param step    samples per output, at least 1.
  /// @param cutoff  6 dB point as a part of the low rate, up to 0.5: what lies 0.16 above and beyond is gone.
  Decimator(std::size_t step, double cutoff);
  [[nodiscard]] std::size_t step() const noexcept { return step_; }
  /// Samples that one output looks at; the output belongs to the middle of them.
  [[nodiscard]] std::size_t length() const noexcept { return weights_.size(); }
  /// One output for each whole filter length that fits, step by step.
  [[nodiscard]] std::vector<double> operator()(std::span<const double> samples) const;

 private:
  std::size_t step_;
  std::vector<double> weights_;
};

}  // namespace wavicon
