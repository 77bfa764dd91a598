// SPDX-License-Identifier: MIT
#pragma once
// The spectrum of the newest samples, to be looked at: figures come from the measurements themselves.

#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon {

/// A line of a spectrum by its name.
struct NamedLine {
  double frequency_hz = 0;
  double level_dbfs = 0;
  std::string name;  ///< "tone", "H2", "H9 folded", "50 Hz hum"
};

class WAVICON_EXPORT SpectrumTrace {
 public:
  /// @param length  of the transform, a power of two. @throws Error bad_argument as RealTransform.
  SpectrumTrace(std::size_t length, double sample_rate_hz);

  /// Takes in the newest samples: levels of a bin are averaged as powers over averaging_s, and their highest
  /// is kept.
  ///
  /// @param samples    length() of them. @param passed_s  since the last call. @param averaging_s  0: none.
  void take(std::span<const double> samples, double passed_s, double averaging_s);
  void clear();

  [[nodiscard]] std::size_t length() const noexcept { return transform_.length(); }
  [[nodiscard]] double bin_hz() const noexcept { return sample_rate_hz_ / static_cast<double>(length()); }
  /// Bin by bin the level that a sine there has (peak), in dBFS; empty before the first take().
  [[nodiscard]] const std::vector<double>& level_dbfs() const noexcept { return level_dbfs_; }
  [[nodiscard]] const std::vector<double>& highest_dbfs() const noexcept { return highest_dbfs_; }
  /// The strongest line, its harmonics and their images, and lines of the mains: those that stand out of what
  /// is around them, the strongest first.
  [[nodiscard]] std::vector<NamedLine> lines() const;

 private:
  [[nodiscard]] bool stands_out(double hz, NamedLine& line) const;

  double sample_rate_hz_;
  RealTransform transform_;
  std::vector<double> window_, power_, level_dbfs_, highest_dbfs_;
  double scale_ = 1;
};

}  // namespace wavicon
