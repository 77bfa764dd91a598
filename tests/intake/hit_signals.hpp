// SPDX-License-Identifier: MIT
#pragma once
// Hits, and rows of them, as they lie on a drum track.

#include <numbers>

#include "intake/damage.hpp"

namespace wavicon::testing {

/// Hits that no generator of ours made: a falling sine, a struck drum with noise, a click, a burst.
enum class Kind { kick, snare, click, burst };

inline std::vector<double> hit(Kind kind, double rate, std::uint64_t seed = 5) {
  std::vector<double> x(static_cast<std::size_t>(0.5 * rate), 0.0);
  const auto start = static_cast<std::size_t>(0.05 * rate);
  for (std::size_t n = 0; start + n < x.size(); ++n) {
    const double t = static_cast<double>(n) / rate, turn = 2 * std::numbers::pi;
    double& v = x[start + n];
    if (kind == Kind::kick)
      v = 0.5 * std::exp(-12 * t) * std::sin(turn * (50 * t + 5 * (1 - std::exp(-30 * t))));
    if (kind == Kind::snare)
      v = 0.2 * std::exp(-20 * t) * std::sin(turn * 190 * t) + 0.1 * std::exp(-18 * t) * gaussian(seed, n);
    if (kind == Kind::click) v = n == 0 ? 0.5 : n == 1 ? -0.25 : n == 2 ? 0.1 : 0;
    if (kind == Kind::burst && t < 0.02)
      v = 0.4 * std::sin(turn * 1000 * t) * (0.5 - 0.5 * std::cos(turn * t / 0.02));
  }
  return x;
}

inline constexpr Kind kKinds[] = {Kind::kick, Kind::snare, Kind::click, Kind::burst};

/// Later by whole frames, in a file of another length.
inline std::vector<double> later(const std::vector<double>& x, std::int64_t frames, std::size_t length) {
  std::vector<double> y(length, 0.0);
  for (std::size_t n = 0; n < x.size(); ++n) {
    const std::int64_t at = static_cast<std::int64_t>(n) + frames;
    if (at >= 0 && at < static_cast<std::int64_t>(length)) y[static_cast<std::size_t>(at)] = x[n];
  }
  return y;
}

/// A row of hits: where each begins, in seconds, and by how many frames it comes late.
struct RowOfHits {
  std::vector<double> times_s;
  std::vector<double> late;
  std::vector<std::uint64_t> seeds;  ///< of each hit's sound
};

/// Irregular, kicks, snares and clicks in turn.
inline RowOfHits row_of(int count, std::uint64_t seed) {
  RowOfHits row;
  double at = 0.3;
  for (int i = 0; i < count; ++i) {
    row.times_s.push_back(at);
    row.late.push_back(0);
    row.seeds.push_back(seed);
    at += 0.55 + 0.5 * random_uniform(seed, 7, static_cast<std::uint64_t>(i));
  }
  return row;
}

/// The row as samples; hit i is of kind i % 3, and lies late[i] frames late.
inline std::vector<double> samples_of(const RowOfHits& row, double rate, double late = 0,
                                      bool one_kind = false) {
  std::vector<double> x(static_cast<std::size_t>((row.times_s.back() + 1) * rate), 0.0);
  for (std::size_t i = 0; i < row.times_s.size(); ++i) {
    auto own = hit(kKinds[one_kind ? 1 : i % 3], rate, row.seeds[i]);
    const double place = std::round((row.times_s[i] - 0.05) * rate) + row.late[i] + late,
                 whole = std::floor(place);
    if (place != whole) own = resampled(own, 1, place - whole, own.size());
    for (std::size_t n = 0; n < own.size(); ++n) {
      const auto at = static_cast<std::int64_t>(whole) + static_cast<std::int64_t>(n);
      if (at >= 0 && at < static_cast<std::int64_t>(x.size())) x[static_cast<std::size_t>(at)] += own[n];
    }
  }
  return x;
}

}  // namespace wavicon::testing
