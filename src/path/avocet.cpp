// SPDX-License-Identifier: MIT
#include "path/avocet.hpp"

#include <cmath>
#include <numbers>

#include "wavicon/audio/decibels.hpp"

namespace wavicon::stand_in {

Avocet::Avocet(const AvocetSettings& settings, double rate) : rate_(rate) { set(settings); }

void Avocet::set(const AvocetSettings& s) {
  sections_.clear();
  const auto prewarped = [&](double hz) {
    return std::tan(std::numbers::pi * std::fmin(hz, 0.49 * rate_) / rate_);
  };
  const double k = prewarped(s.cut_hz);
  const auto cut_first = [&] { sections_.push_back({1 / (1 + k), -1 / (1 + k), 0, (k - 1) / (k + 1), 0}); };
  const auto cut_second = [&](double q) {
    const double n = 1 / (1 + k / q + k * k);
    sections_.push_back({n, -2 * n, n, 2 * (k * k - 1) * n, (1 - k / q + k * k) * n});
  };
  // Butterworth: poles evenly on a half circle.
  switch (s.cut_order) {
    case 1:
      cut_first();
      break;
    case 2:
      cut_second(std::numbers::sqrt2 / 2);
      break;
    case 3:
      cut_first();
      cut_second(1);
      break;
    case 4:
      cut_second(1 / (2 * std::cos(std::numbers::pi / 8)));
      cut_second(1 / (2 * std::cos(3 * std::numbers::pi / 8)));
      break;
    default:
      break;
  }
  if (s.bell_db != 0) {
    const double b = prewarped(s.bell_hz), a = ratio_from_db(s.bell_db / 2),
                 n = 1 / (1 + b / (a * s.bell_q) + b * b);
    sections_.push_back({(1 + a * b / s.bell_q + b * b) * n, 2 * (b * b - 1) * n,
                         (1 - a * b / s.bell_q + b * b) * n, 2 * (b * b - 1) * n,
                         (1 - b / (a * s.bell_q) + b * b) * n});
  }
  if (s.shelf_db != 0) {
    // Zero and pole lie to both sides of the corner, where half of the lift is reached.
    const double v = ratio_from_db(s.shelf_db), h = prewarped(s.shelf_hz) * std::sqrt(v), n = 1 / (1 + h);
    sections_.push_back({(v + h) * n, (h - v) * n, 0, (h - 1) * n, 0});
  }
  gain_ = ratio_from_db(s.level_db + s.lift * s.bell_db);
}

void Avocet::run(const float* in, float* out, int frames) noexcept {
  for (int n = 0; n < frames; ++n) {
    double x = gain_ * in[n];
    for (Section& s : sections_) {
      const double y = s.b0 * x + s.s1;
      s.s1 = s.b1 * x - s.a1 * y + s.s2;
      s.s2 = s.b2 * x - s.a2 * y;
      x = y;
    }
    out[n] = static_cast<float>(x);
  }
}

}  // namespace wavicon::stand_in
