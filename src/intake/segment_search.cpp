// SPDX-License-Identifier: MIT
#include "segment_search.hpp"

#include <algorithm>
#include <cmath>

#include "audio/wide.hpp"
#include "samples.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kWeak = 0.003;  // of the strongest bin: what is far weaker is likely to be noise

using Bins = std::vector<std::complex<double>>;

// std::abs guards against overflow, which costs more than all else here.
double size_of(const std::complex<double>& bin) { return std::sqrt(std::norm(bin)); }

// Each of b times the conjugate of a over its size to the power of one and a half.
WAVICON_WIDE void whiten(const double* a, double weak, double* b, std::size_t count) {
  for (std::size_t k = 0; k < count; ++k) {
    const double re = a[2 * k], im = a[2 * k + 1], size = std::sqrt(re * re + im * im) + weak,
                 over = size * std::sqrt(size), to_re = re / over, to_im = im / over, b_re = b[2 * k],
                 b_im = b[2 * k + 1];
    b[2 * k] = b_re * to_re + b_im * to_im;
    b[2 * k + 1] = b_im * to_re + -b_re * to_im;
  }
}

}  // namespace

RealTransform& SegmentSearch::transform_for(std::int64_t reach) {
  // Nothing goes round at the delays that are asked for, and what whitening makes longer has room behind it.
  return transforms_.get(
      fast_transform_length(static_cast<std::size_t>(std::max(2 * length_, length_ + 2 * reach))));
}

std::vector<double> SegmentSearch::in_phase_near(std::int64_t first, double delay, std::int64_t reach) {
  RealTransform& transform = transform_for(reach);
  const auto y =
      read_channel(b_, options_.capture_channel, first + std::llround(delay) - reach, length_ + 2 * reach);
  Bins b = whitened(own(first, transform), y, transform);
  double most = 0;
  for (const auto& bin : b) most += 2 * size_of(bin);
  if (!(most > 0)) return {};
  const auto correlation = transform.invert(b);
  std::vector<double> agree(static_cast<std::size_t>(2 * reach + 1));
  for (std::size_t i = 0; i < agree.size(); ++i)
    agree[i] = correlation[i] * static_cast<double>(transform.length()) / most;
  return agree;
}

const SegmentSearch::Own& SegmentSearch::own(std::int64_t first, RealTransform& transform) {
  if (own_.first == first && own_.transform == transform.length()) return own_;
  if (own_.transform == 0 || own_.first != first) {
    own_.samples = read_channel(a_, options_.reference_channel, first, length_);
    own_.power = energy(own_.samples);
    own_.first = first;
  }
  own_.transform = transform.length();
  own_.bins = transform.bins_of(own_.samples);
  own_.weak = kWeak * std::sqrt(highest_power(own_.bins));
  return own_;
}

// Cross-spectrum of a segment and a longer stretch, in which what is loud counts little more than what is
// soft.
Bins SegmentSearch::whitened(const Own& own, std::span<const double> y, RealTransform& transform) {
  Bins b = transform.bins_of(y);
  if (!(own.weak > 0)) return Bins(b.size());
  whiten(reinterpret_cast<const double*>(own.bins.data()), own.weak, reinterpret_cast<double*>(b.data()),
         b.size());
  return b;
}

std::optional<Segment> SegmentSearch::search(std::int64_t first, double delay, std::int64_t reach) {
  RealTransform& transform = transform_for(reach);
  const Own& x = own(first, transform);
  if (x.power == 0) return std::nullopt;
  const std::int64_t start = first + std::llround(delay) - reach;
  const auto y = read_channel(b_, options_.capture_channel, start, length_ + 2 * reach);
  const auto correlation =
      transform.invert(whitened(x, y, transform)).first(static_cast<std::size_t>(2 * reach + 1));
  const auto peak = std::max_element(correlation.begin(), correlation.end(),
                                     [](double p, double q) { return std::abs(p) < std::abs(q); });
  // Believed when the two look alike there, as they stand.
  const auto offset = static_cast<std::size_t>(peak - correlation.begin());
  const std::span<const double> there(y.data() + offset, x.samples.size());
  const double other = energy(there);
  const double alike = sum_of_products(x.samples, there);
  if (other == 0 || std::abs(alike) < kAlike * std::sqrt(x.power * other)) return std::nullopt;
  return Segment{first, static_cast<double>(start - first + (peak - correlation.begin())), 1,
                 std::abs(alike) / std::sqrt(x.power * other)};
}

}  // namespace wavicon::intake_detail
