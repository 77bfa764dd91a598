// SPDX-License-Identifier: MIT
#include "samples.hpp"

#include <numbers>

namespace wavicon::intake_detail {

std::complex<double> sine_amplitude(std::span<const double> x, double cycles_per_frame) {
  if (x.empty()) return 0;
  const double frames = static_cast<double>(x.size()), middle = 0.5 * (frames - 1);
  // Raised cosine and carrier, turned from sample to sample: a sine for each costs more than all else.
  std::complex<double> sum = 0, fade = std::polar(1.0, std::numbers::pi / frames),
                       carrier = std::polar(1.0, 2 * std::numbers::pi * cycles_per_frame * middle);
  const std::complex<double> fade_turn = fade * fade,
                             turn = std::polar(1.0, -2 * std::numbers::pi * cycles_per_frame);
  double weight = 0;
  for (const double v : x) {
    const double h = 0.5 - 0.5 * fade.real();
    sum += h * v * carrier;
    weight += h;
    fade *= fade_turn;
    carrier *= turn;
  }
  return std::complex<double>(0, 2) * sum / weight;
}

}  // namespace wavicon::intake_detail
