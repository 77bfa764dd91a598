// SPDX-License-Identifier: MIT
#include "band_vote.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <vector>

namespace wavicon::intake_detail {
namespace {

constexpr double kLowestHz = 20;
constexpr double kHighestOfRate = 0.46;
constexpr std::size_t kLeastBins = 6;   // of a band, of those that the stretch's own length resolves
constexpr double kLeastDensity = 1e-6;  // of the densest band's: 60 dB

}  // namespace

BandVote vote_of_bands(std::span<const double> x, std::span<const double> y, double sample_rate_hz,
                       std::int64_t reach, RealTransforms& transforms) {
  RealTransform& transform =
      transforms.get(fast_transform_length(x.size() + static_cast<std::size_t>(2 * reach)));
  const auto length = static_cast<double>(transform.length());
  const auto a = transform.bins_of(x);
  auto b = transform.bins_of(y);
  struct Band {
    std::size_t first, end;
    double own, other;
  };
  std::vector<Band> bands;
  const double finer = length / static_cast<double>(x.size());
  double densest_own = 0, densest_other = 0;
  const auto last = static_cast<std::size_t>(kHighestOfRate * length);
  for (auto at = static_cast<std::size_t>(std::max(1.0, std::ceil(kLowestHz * length / sample_rate_hz)));
       at < last;) {
    const auto third = static_cast<std::size_t>(std::ceil(static_cast<double>(at) * std::cbrt(2.0))),
               least = at + static_cast<std::size_t>(std::ceil(finer * kLeastBins));
    const std::size_t end = std::min(last, std::max(third, least));
    Band band{at, end, 0, 0};
    for (std::size_t k = at; k < end; ++k) {
      band.own += std::norm(a[k]);
      band.other += std::norm(b[k]);
    }
    densest_own = std::max(densest_own, band.own / static_cast<double>(end - at));
    densest_other = std::max(densest_other, band.other / static_cast<double>(end - at));
    bands.push_back(band);
    at = end;
  }
  BandVote vote;
  std::vector<double> weights(b.size(), 0.0);
  for (const Band& band : bands) {
    const auto bins = static_cast<double>(band.end - band.first);
    if (band.own < kLeastDensity * densest_own * bins || band.other < kLeastDensity * densest_other * bins ||
        !(band.own > 0 && band.other > 0))
      continue;
    ++vote.bands;
    for (std::size_t k = band.first; k < band.end; ++k) weights[k] = 1 / std::sqrt(band.own * band.other);
  }
  if (vote.bands == 0) return vote;
  for (std::size_t k = 0; k < b.size(); ++k) b[k] *= std::conj(a[k]) * weights[k];
  const auto votes = transform.invert(b);
  // The inverse sums a bin and its image.
  const double scale = 0.5 * length / vote.bands;
  for (std::int64_t lag = -reach; lag <= reach; ++lag) {
    const double here =
        scale *
        votes[static_cast<std::size_t>(lag < 0 ? lag + static_cast<std::int64_t>(transform.length()) : lag)];
    if (std::abs(here) <= std::abs(vote.agreement)) continue;
    vote.agreement = here;
    vote.lag = static_cast<double>(lag);
  }
  return vote;
}

}  // namespace wavicon::intake_detail
