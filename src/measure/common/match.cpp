// SPDX-License-Identifier: MIT
#include "measure/common/match.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/window.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::measure_detail {

AlignedReader::AlignedReader(AudioSource& b, std::vector<ChannelPair> pairs, const Alignment& alignment,
                             bool whole)
    : b_(b),
      pairs_(std::move(pairs)),
      alignment_(alignment),
      whole_(whole),
      gains_(pairs_.size(), 1.0),
      filters_(pairs_.size()) {}

void AlignedReader::set_filter(std::size_t pair, std::span<const double> filter) {
  filters_[pair].emplace(filter);
  reach_ = std::max(reach_, filter.size() / 2 + 1);
}

void AlignedReader::read_plain(std::int64_t first_frame, std::span<double> planar) {
  const std::size_t length = planar.size() / pairs_.size();
  const auto channels = static_cast<std::size_t>(b_.channel_count());
  const double place =
      alignment_.delay_frames + static_cast<double>(first_frame) * alignment_.frames_per_frame;
  const std::int64_t reach = whole_ ? 0 : FractionalReader::kReach;
  const auto begin = (whole_ ? std::llround(place) : static_cast<std::int64_t>(std::floor(place))) - reach;
  const auto count =
      whole_ ? length
             : static_cast<std::size_t>(static_cast<double>(length) * alignment_.frames_per_frame) +
                   2 * static_cast<std::size_t>(reach) + 2;
  raw_.resize(count * channels);
  b_.read(begin, raw_);
  for_each_part(pairs_.size(), whole_ ? 0 : length, [&](std::size_t p) {
    const auto from =
        std::span<const double>(raw_).subspan(static_cast<std::size_t>(pairs_[p].b) * count, count);
    const auto to = planar.subspan(p * length, length);
    if (whole_)
      std::copy(from.begin(), from.end(), to.begin());
    else
      reader_.read(from, place - static_cast<double>(begin), alignment_.frames_per_frame, to);
    if (gains_[p] != 1)
      for (double& v : to) v /= gains_[p];
  });
}

void AlignedReader::read(std::int64_t first_frame, std::span<double> planar) {
  if (reach_ == 0) return read_plain(first_frame, planar);
  const std::size_t length = planar.size() / pairs_.size(), wide = length + 2 * reach_;
  wide_.resize(wide * pairs_.size());
  read_plain(first_frame - static_cast<std::int64_t>(reach_), wide_);
  for (std::size_t p = 0; p < pairs_.size(); ++p) {
    const auto run = std::span<const double>(wide_).subspan(p * wide, wide);
    const auto to = planar.subspan(p * length, length);
    const std::size_t taps = filters_[p] ? filters_[p]->tap_count() : 1;
    const auto from = run.subspan(reach_ - (taps - 1 - taps / 2), length + taps - 1);
    if (filters_[p])
      filters_[p]->apply(from, to);
    else
      std::copy(from.begin(), from.end(), to.begin());
  }
}

ResponseMatch::ResponseMatch(std::size_t taps) : taps_(taps), own_(taps * taps, 0.0), both_(taps, 0.0) {}

// x[n] ≈ Σ h[j]·y[n + taps/2 - j]. Sums over exactly the frames of x: a matrix of lags alone would forget the
// ends of each stretch, which costs more the longer the filter is.
void ResponseMatch::add(std::span<const double> x, std::span<const double> y) {
  RealTransform& transform = transforms_.get(fast_transform_length(y.size() + taps_));
  const std::size_t start = taps_ + taps_ / 2, count = x.size();  // where tap 0 looks at first
  const auto all = transform.bins_of(y);
  auto lags_with = [&](std::span<const double> samples) {
    auto product = transform.bins_of(samples);
    for (std::size_t k = 0; k < product.size(); ++k) product[k] = std::conj(product[k]) * all[k];
    const auto lags = transform.invert(product);
    return std::vector<double>(lags.begin(), lags.end());
  };
  auto lags = lags_with(x);  // at i: Σ x[m]·y[m + i]
  for (std::size_t j = 0; j < taps_; ++j) both_[j] += lags[start - j];
  lags = lags_with(y.subspan(start, count));
  std::vector<double> diagonal(taps_);
  for (std::size_t j = 0; j < taps_; ++j) diagonal[j] = lags[start - j];
  // From the first row down along the diagonals: one product enters, one leaves.
  for (std::size_t i = 0; i < taps_; ++i) {
    for (std::size_t j = i; j < taps_; ++j) own_[j * taps_ + i] += diagonal[j - i];
    if (i + 1 == taps_) break;
    const std::size_t in = start - i - 1, out = start - i + count - 1;
    for (std::size_t d = 0; d + i + 1 < taps_; ++d) diagonal[d] += y[in] * y[in - d] - y[out] * y[out - d];
  }
}

std::vector<double> ResponseMatch::solve() const {
  auto matrix = own_;
  // A whisper of white noise keeps bands in which there is nothing from being blown up.
  const double whisper = own_[0] * 1e-11;
  for (std::size_t i = 0; i < taps_; ++i) matrix[i * taps_ + i] += whisper;
  return SymmetricSystem(matrix, taps_).solve(both_);
}

TopCut::TopCut() : taps_(kaiser_window(113, 10.06)) {
  const auto centre = static_cast<double>(taps_.size() / 2);
  double sum = 0;
  for (std::size_t k = 0; k < taps_.size(); ++k) {
    const double x = 2 * std::numbers::pi * 0.43 * (static_cast<double>(k) - centre);
    taps_[k] *= x == 0 ? 1 : std::sin(x) / x;
    sum += taps_[k];
  }
  for (double& tap : taps_) tap /= sum;
}

namespace {

constexpr std::size_t kSide = 8;      // doubles side by side
constexpr std::size_t kTogether = 4;  // of those, sums that do not wait for each other
using Side = double __attribute__((vector_size(kSide * sizeof(double))));

// Σ taps[k]·in[n + k] for kSide·kTogether places, in the order of the taps.
WAVICON_WIDE void convolve(const double* in, const double* taps, std::size_t tap_count, double* out) {
  Side sums[kTogether] = {};
  for (std::size_t k = 0; k < tap_count; ++k)
    for (std::size_t i = 0; i < kTogether; ++i) {
      Side v;
      std::memcpy(&v, in + k + i * kSide, sizeof v);
      sums[i] += taps[k] * v;
    }
  std::memcpy(out, sums, sizeof sums);
}

}  // namespace

void TopCut::apply(std::span<const double> in, std::span<double> out) const {
  constexpr std::size_t kPiece = kSide * kTogether;
  std::size_t at = 0;
  for (; at + kPiece <= out.size(); at += kPiece)
    convolve(in.data() + at, taps_.data(), taps_.size(), out.data() + at);
  for (; at < out.size(); ++at) {
    double sum = 0;
    for (std::size_t k = 0; k < taps_.size(); ++k) sum += taps_[k] * in[at + k];
    out[at] = sum;
  }
}

}  // namespace wavicon::measure_detail
