#include "wavicon/audio/fractional.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kTaps = 2 * FractionalReader::kReach;
constexpr std::size_t kPhases = 512;
constexpr double kBeta = 18;
constexpr std::size_t kLanes = 4;

using Lanes = double __attribute__((vector_size(kLanes * sizeof(double))));

// Four neighbouring filters over the same samples.
WAVICON_WIDE void four_sums(const double* x, const double* filters, double* result) {
  Lanes a{}, b{}, c{}, d{};
  for (std::size_t k = 0; k < kTaps; k += kLanes) {
    Lanes sample, weight;
    std::memcpy(&sample, x + k, sizeof sample);
    std::memcpy(&weight, filters + k, sizeof weight);
    a += weight * sample;
    std::memcpy(&weight, filters + kTaps + k, sizeof weight);
    b += weight * sample;
    std::memcpy(&weight, filters + 2 * kTaps + k, sizeof weight);
    c += weight * sample;
    std::memcpy(&weight, filters + 3 * kTaps + k, sizeof weight);
    d += weight * sample;
  }
  result[0] = (a[0] + a[1]) + (a[2] + a[3]);
  result[1] = (b[0] + b[1]) + (b[2] + b[3]);
  result[2] = (c[0] + c[1]) + (c[2] + c[3]);
  result[3] = (d[0] + d[1]) + (d[2] + d[3]);
}

}  // namespace

FractionalReader::FractionalReader() : filters_((kPhases + 4) * kTaps) {
  // The window at every place that is needed: steps of 1/kPhases of a sample, taken half-way between two of
  // its own samples.
  const std::size_t per_sample = 2 * kPhases;
  const auto window = kaiser_window(kTaps * per_sample, kBeta);
  for (std::size_t row = 0; row < kPhases + 4; ++row) {
    const double fraction = (static_cast<double>(row) - 1.0) / kPhases;
    for (std::size_t k = 0; k < kTaps; ++k) {
      const double d = static_cast<double>(k) - static_cast<double>(kReach - 1) - fraction;
      const double at = (d + static_cast<double>(kReach)) * static_cast<double>(per_sample) - 0.5;
      const auto left = static_cast<std::ptrdiff_t>(std::floor(at));
      auto weight = [&](std::ptrdiff_t i) {
        return i < 0 || i >= static_cast<std::ptrdiff_t>(window.size()) ? 0.0
                                                                        : window[static_cast<std::size_t>(i)];
      };
      const double sinc = d == 0 ? 1.0 : std::sin(std::numbers::pi * d) / (std::numbers::pi * d);
      // Half-way: cubic through four, so that the window's bend is kept.
      filters_[row * kTaps + k] =
          sinc * (9 * (weight(left) + weight(left + 1)) - (weight(left - 1) + weight(left + 2))) / 16;
    }
  }
}

void FractionalReader::read(std::span<const double> x, double first, double step,
                            std::span<double> out) const {
  std::vector<double> edge(kTaps);
  for (std::size_t n = 0; n < out.size(); ++n) {
    const double place = first + static_cast<double>(n) * step;
    const double whole = std::floor(place);
    const double phase = (place - whole) * kPhases;
    const double row = std::floor(phase), t = phase - row;
    const auto begin = static_cast<std::ptrdiff_t>(whole) - (kReach - 1);
    const bool inside =
        begin >= 0 && begin + static_cast<std::ptrdiff_t>(kTaps) <= static_cast<std::ptrdiff_t>(x.size());
    const double* samples = inside ? x.data() + begin : edge.data();
    for (std::size_t k = 0; !inside && k < kTaps; ++k) {
      const std::ptrdiff_t i = begin + static_cast<std::ptrdiff_t>(k);
      edge[k] = i < 0 || i >= static_cast<std::ptrdiff_t>(x.size()) ? 0.0 : x[static_cast<std::size_t>(i)];
    }
    double y[4];
    four_sums(samples, filters_.data() + static_cast<std::size_t>(row) * kTaps, y);
    // Cubic through the four phases around the place (Lagrange).
    const double a = -t * (t - 1) * (t - 2) / 6, b = (t + 1) * (t - 1) * (t - 2) / 2,
                 c = -(t + 1) * t * (t - 2) / 2, d = (t + 1) * t * (t - 1) / 6;
    out[n] = a * y[0] + b * y[1] + c * y[2] + d * y[3];
  }
}

}  // namespace wavicon
