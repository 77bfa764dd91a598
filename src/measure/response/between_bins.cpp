// SPDX-License-Identifier: MIT
#include "measure/response/between_bins.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace wavicon::measure_detail {
namespace {

constexpr std::ptrdiff_t kReach = BetweenBins::kReach;
constexpr double kOversampling = 2.5;  // of the spectrum: straight lines between bins then do
// π·√((width/σ)²·(σ-½)² - 0.8) for a width of 12 and σ = 2.5 (Beatty, Nishimura, Pauly, IEEE Trans. Med.
// Imag. 24(6), 2005, to verify).
constexpr double kBinsBeta = 30.03;

// Modified Bessel function of order 0, by its series.
double bessel_0(double x) {
  double sum = 1, term = 1;
  for (int k = 1; term > 1e-17 * sum; ++k) {
    term *= (x / (2 * k)) * (x / (2 * k));
    sum += term;
  }
  return sum;
}

double kernel(double bins) {
  const double share = bins / static_cast<double>(kReach);
  return share * share < 1 ? bessel_0(kBinsBeta * std::sqrt(1 - share * share)) : 0;
}

// Its Fourier transform.
double kernel_over_time(double time) {
  const double reach = static_cast<double>(kReach), turn = 2 * std::numbers::pi * reach * time,
               s = std::sqrt(kBinsBeta * kBinsBeta - turn * turn);
  return 2 * reach * std::sinh(s) / s;
}

}  // namespace

BetweenBins::BetweenBins(std::span<const double> samples, RealTransforms& transforms)
    : length_(fast_transform_length(
          static_cast<std::size_t>(std::ceil(kOversampling * static_cast<double>(samples.size() + 16))))),
      centre_(static_cast<double>(samples.size() / 2)) {
  RealTransform& transform = transforms.get(length_);
  const auto input = transform.input();
  std::fill(input.begin(), input.end(), 0.0);
  const std::size_t half = samples.size() / 2;
  for (std::size_t n = 0; n < samples.size(); ++n) {
    const double away = (static_cast<double>(n) - centre_) / static_cast<double>(length_);
    input[(n + length_ - half) % length_] = samples[n] / kernel_over_time(away);
  }
  transform.execute();
  bins_.assign(transform.bins().begin(), transform.bins().end());
}

BetweenBins::Place BetweenBins::place(double frequency) const {
  const double bins = frequency * static_cast<double>(length_);
  Place place{.nearest = static_cast<std::ptrdiff_t>(std::lround(bins)),
              .turn = std::polar(1.0, -2 * std::numbers::pi * std::fmod(frequency * centre_, 1.0))};
  for (std::ptrdiff_t i = 0; i < std::ssize(place.weights); ++i)
    place.weights[static_cast<std::size_t>(i)] =
        kernel(bins - static_cast<double>(place.nearest - kReach + i));
  return place;
}

std::complex<double> BetweenBins::at(const Place& place) const {
  const auto length = static_cast<std::ptrdiff_t>(length_);
  std::complex<double> sum = 0;
  for (std::ptrdiff_t i = 0; i < std::ssize(place.weights); ++i) {
    const std::ptrdiff_t wrapped = (place.nearest - kReach + i + length) % length;
    sum += place.weights[static_cast<std::size_t>(i)] *
           (wrapped <= length / 2 ? bins_[static_cast<std::size_t>(wrapped)]
                                  : std::conj(bins_[static_cast<std::size_t>(length - wrapped)]));
  }
  return sum * place.turn;
}

}  // namespace wavicon::measure_detail
