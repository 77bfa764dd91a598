// SPDX-License-Identifier: MIT
#include "samples.hpp"

#include <numbers>

#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {

std::vector<double> correlation_of(std::span<const double> x, std::span<const double> y) {
  RealTransform transform(fast_transform_length(x.size() + y.size()));
  const auto own = transform.bins_of(x);
  auto cross = transform.bins_of(y);
  for (std::size_t k = 0; k < cross.size(); ++k) cross[k] *= std::conj(own[k]);
  const auto around = transform.invert(cross);
  // What lies before the first lag stands at the end.
  std::vector<double> sums(around.end() - static_cast<std::ptrdiff_t>(x.size() - 1), around.end());
  sums.insert(sums.end(), around.begin(), around.begin() + static_cast<std::ptrdiff_t>(y.size()));
  return sums;
}

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
