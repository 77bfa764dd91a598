// SPDX-License-Identifier: MIT
#pragma once
// The course of a sweep in a stretch of samples, found by its phase. Internal to `intake`.

#include <optional>
#include <span>

namespace wavicon::intake_detail {

/// A sweep over a whole stretch.
struct SweepCourse {
  bool log = true;
  double from_hz = 0, to_hz = 0;  ///< at the ends of the stretch
  double seconds = 0;
  double cycles = 0;      ///< of its sine at the first sample
  double amplitude = 0;   ///< in the middle
  double wander_db = 0;   ///< by which its level changes from one part to another
  double spread_rad = 0;  ///< RMS by which its phase strays from the law
  [[nodiscard]] double cycles_at(double seconds) const;
};

/// The sweep of which a stretch is made, rising or falling, exponential or linear; none when its phase
/// follows neither within 0.02 rad RMS.
[[nodiscard]] std::optional<SweepCourse> sweep_course(std::span<const double> sound, double sample_rate_hz);

}  // namespace wavicon::intake_detail
