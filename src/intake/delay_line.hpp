// SPDX-License-Identifier: MIT
#pragma once
// A line through the delays of segments: what it is worth, whether it leans, and where it is broken. Internal
// to `intake`.

#include <cstdint>
#include <vector>

namespace wavicon::intake_detail {

/// How late one stretch of the reference is in the capture.
struct Segment {
  std::int64_t first = 0;  ///< frame of the reference
  double delay = 0;        ///< place in the capture less that frame
  double sigma = 1;        ///< standard deviation of the delay, frames
  double alike = 0;        ///< correlation with the capture there, 0 … 1
};

/// Student's t that is exceeded in one of 10 000 cases, either way, by degrees of freedom.
[[nodiscard]] double surely(std::size_t freedom);

/// A straight line of delays over frames.
struct Line {
  double delay = 0;
  double slope = 0;
  [[nodiscard]] double at(double frame) const { return delay + slope * frame; }
};

class DelayLine {
 public:
  /// @param length  of every segment, in frames.
  explicit DelayLine(std::int64_t length = 1) : half_(static_cast<double>(length) / 2) {}

  [[nodiscard]] const Line& line() const noexcept { return line_; }
  void set(const Line& line) noexcept { line_ = line; }
  [[nodiscard]] double centre(const Segment& s) const { return static_cast<double>(s.first) + half_; }

  /// Medians first, then least squares by 1/σ² over what lies within four deviations of them.
  void fit(const std::vector<Segment>& segments, bool with_slope);
  /// Whether the slope stands out of what the segments scatter: Student's t of one false claim in 10 000.
  [[nodiscard]] bool leans() const;
  /// Whether the segments scatter about as much as their own deviations say.
  [[nodiscard]] bool is_consistent() const noexcept { return widened_ < kConsistent; }
  [[nodiscard]] double spread() const noexcept { return spread_; }            ///< RMS off the line, weighed
  [[nodiscard]] double delay_sigma() const noexcept { return delay_sigma_; }  ///< in the middle
  [[nodiscard]] double slope_sigma() const noexcept { return slope_sigma_; }

 private:
  [[nodiscard]] double off(const Segment& s) const { return (s.delay - line_.at(centre(s))) / s.sigma; }
  void refit(const std::vector<Segment>& segments, bool with_slope);

  static constexpr double kConsistent = 3;  // times their own deviations

  double half_ = 0;
  double widened_ = 1;
  Line line_;
  std::size_t used_ = 0;  // segments on the line
  double spread_ = 0, slope_sigma_ = 0, delay_sigma_ = 0;
};

/// Steps that explain delays far better than a straight line does, of whole frames, at one pace beside them:
/// indices of the segments behind them; none when a line does as well.
///
/// @param segments  in order, with their final delays.
[[nodiscard]] std::vector<std::size_t> steps_of(const std::vector<Segment>& segments, std::int64_t length);

}  // namespace wavicon::intake_detail
