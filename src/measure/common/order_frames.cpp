// SPDX-License-Identifier: MIT
#include "measure/common/order_frames.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "audio/wide.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kFrameBeta = 20;  // of the Kaiser window: side lobes at -155 dB
constexpr double kGuard =
    1e-12;  // of the diagonal: keeps two orders at one frequency solvable, and plainly inflated

using Lanes = double __attribute__((vector_size(64)));
constexpr std::size_t kLanes = 8;

// Frames are gone through in pieces, each for all orders, whose arrays stay in the nearest cache; what they
// sum up to is kept lane by lane, so that each lane adds up in the order of the frame.
constexpr std::size_t kPiece = 40 * kLanes;

inline double total(const Lanes& v) {
  return ((v[0] + v[4]) + (v[2] + v[6])) + ((v[1] + v[5]) + (v[3] + v[7]));
}

// Frames are whole fours: the last four of some fill half of the lanes, the rest of which are 0.
WAVICON_WITHIN_WIDE void take(Lanes& v, const double* from, std::size_t count) {
  v = Lanes{};
  std::memcpy(&v, from, count * sizeof(double));
}
WAVICON_WITHIN_WIDE void put(const Lanes& v, double* to, std::size_t count) {
  std::memcpy(to, &v, count * sizeof(double));
}

// Kept in memory between pieces, where each copy of a loop takes lanes to be aligned as its processor wants.
struct alignas(sizeof(Lanes)) PhaseSums {
  Lanes c0{}, c1{}, c2{}, s0{}, s1{}, s2{};
};

WAVICON_WITHIN_WIDE void step_and_sum_at(const double* cosine, const double* sine, const double* w,
                                         const double* u, double* re, double* im, std::size_t n,
                                         std::size_t count, PhaseSums& sums) {
  Lanes a, b, weight, slope, c, s;
  take(a, re + n, count);
  take(b, im + n, count);
  take(weight, w + n, count);
  take(slope, u + n, count);
  take(c, cosine + n, count);
  take(s, sine + n, count);
  const Lanes wa = weight * a, wb = weight * b, wau = wa * slope, wbu = wb * slope;
  sums.c0 += wa;
  sums.s0 += wb;
  sums.c1 += wau;
  sums.s1 += wbu;
  sums.c2 += wau * slope;
  sums.s2 += wbu * slope;
  put(a * c - b * s, re + n, count);
  put(a * s + b * c, im + n, count);
}

// e^{jdφ} of frames from … end - 1 to e^{j(d+1)φ}, and its sums with w, w·u, w·u².
WAVICON_WIDE void step_and_sum(const double* cosine, const double* sine, const double* w, const double* u,
                               double* re, double* im, std::size_t from, std::size_t end, PhaseSums* result) {
  PhaseSums sums = *result;
  std::size_t n = from;
  for (; n + kLanes <= end; n += kLanes) step_and_sum_at(cosine, sine, w, u, re, im, n, kLanes, sums);
  if (n < end) step_and_sum_at(cosine, sine, w, u, re, im, n, kLanes / 2, sums);
  *result = sums;
}

struct alignas(sizeof(Lanes)) SideSums {
  Lanes c0{}, c1{}, s0{}, s1{};
};

WAVICON_WITHIN_WIDE void project_at(const double* wx, const double* u, const double* re, const double* im,
                                    std::size_t n, std::size_t count, SideSums& sums) {
  Lanes a, b, x, slope;
  take(a, re + n, count);
  take(b, im + n, count);
  take(x, wx + n, count);
  take(slope, u + n, count);
  const Lanes xa = x * a, xb = x * b;
  sums.c0 += xa;
  sums.s0 += xb;
  sums.c1 += xa * slope;
  sums.s1 += xb * slope;
}

// Σ wx·e^{jkφ} and the same with u.
WAVICON_WIDE void project(const double* wx, const double* u, const double* re, const double* im,
                          std::size_t from, std::size_t end, SideSums* result) {
  SideSums sums = *result;
  std::size_t n = from;
  for (; n + kLanes <= end; n += kLanes) project_at(wx, u, re, im, n, kLanes, sums);
  if (n < end) project_at(wx, u, re, im, n, kLanes / 2, sums);
  *result = sums;
}

WAVICON_WITHIN_WIDE void take_off_at(const double* cosine, const double* sine, const double* u, double* re,
                                     double* im, const double* of, double* rest, std::size_t n,
                                     std::size_t count) {
  Lanes a, b, slope, c, s, r;
  take(a, re + n, count);
  take(b, im + n, count);
  take(slope, u + n, count);
  take(c, cosine + n, count);
  take(s, sine + n, count);
  take(r, rest + n, count);
  put(r - ((of[0] + of[1] * slope) * a + (of[2] + of[3] * slope) * b), rest + n, count);
  put(a * c - b * s, re + n, count);
  put(a * s + b * c, im + n, count);
}

// Takes an order with amplitudes that change linearly from a signal, and turns the phase to the next one.
WAVICON_WIDE void take_off(const double* cosine, const double* sine, const double* u, double* re, double* im,
                           std::size_t from, std::size_t end, const double* of, double* rest) {
  std::size_t n = from;
  for (; n + kLanes <= end; n += kLanes) take_off_at(cosine, sine, u, re, im, of, rest, n, kLanes);
  if (n < end) take_off_at(cosine, sine, u, re, im, of, rest, n, kLanes / 2);
}

constexpr double kMostTaken = 0.9;    // of the freedom of a frame that its unknowns may take
constexpr double kLeastLocal = 0.03;  // of the residual's mean level: no place is quieter

}  // namespace

OrderFitter::OrderFitter(std::size_t frame, int highest_order)
    : highest_(highest_order), weights_(kaiser_window(frame / 4 * 4, kFrameBeta)) {
  double sum = 0;
  for (const double w : weights_) sum += w;
  for (double& w : weights_) w /= sum;
  for (std::size_t n = 0; n < weights_.size(); ++n)
    slope_.push_back((2 * static_cast<double>(n) + 1) / static_cast<double>(weights_.size()) - 1);
  double of_slope = 0;
  for (std::size_t n = 0; n < weights_.size(); ++n) {
    squares_ += weights_[n] * weights_[n];
    slope_squares_ += weights_[n] * weights_[n] * slope_[n] * slope_[n];
    of_slope += weights_[n] * slope_[n] * slope_[n];
  }
  slope_squares_ /= of_slope;
  re_.resize(weights_.size());
  im_.resize(weights_.size());
  for (int p = 0; p < 3; ++p) {
    sum_cos_[p].resize(static_cast<std::size_t>(2 * highest_ + 1));
    sum_sin_[p].resize(static_cast<std::size_t>(2 * highest_ + 1));
  }
}

// Unknowns, slopes first: for p = 1, then p = 0: order 0, then cosine and sine of orders 1 … K.
void OrderFitter::sum_phases(std::span<const double> cosine, std::span<const double> sine,
                             std::span<const std::span<const double>> signals) {
  const std::size_t frame = weights_.size();
  const auto half = static_cast<std::size_t>(2 * highest_ + 1);
  std::vector<std::vector<double>> weighted;
  for (const auto& x : signals) {
    weighted.emplace_back(frame);
    for (std::size_t n = 0; n < frame; ++n) weighted.back()[n] = weights_[n] * x[n];
  }
  sides_.assign(signals.size(), std::vector<double>(2 * half, 0.0));
  std::fill(re_.begin(), re_.end(), 1.0);
  std::fill(im_.begin(), im_.end(), 0.0);
  const auto orders = static_cast<std::size_t>(highest_);
  std::vector<PhaseSums> sums(half);
  std::vector<std::vector<SideSums>> sides(signals.size(), std::vector<SideSums>(orders + 1));
  for (std::size_t from = 0; from < frame; from += kPiece) {
    const std::size_t end = std::min(frame, from + kPiece);
    for (std::size_t d = 0; d < half; ++d) {
      if (d <= orders)
        for (std::size_t i = 0; i < signals.size(); ++i)
          project(weighted[i].data(), slope_.data(), re_.data(), im_.data(), from, end, &sides[i][d]);
      step_and_sum(cosine.data(), sine.data(), weights_.data(), slope_.data(), re_.data(), im_.data(), from,
                   end, &sums[d]);
    }
  }
  for (std::size_t d = 0; d < half; ++d) {
    const PhaseSums& of = sums[d];
    sum_cos_[0][d] = total(of.c0);
    sum_cos_[1][d] = total(of.c1);
    sum_cos_[2][d] = total(of.c2);
    sum_sin_[0][d] = total(of.s0);
    sum_sin_[1][d] = total(of.s1);
    sum_sin_[2][d] = total(of.s2);
  }
  for (std::size_t i = 0; i < signals.size(); ++i)
    for (std::size_t k = 0; k <= orders; ++k) {
      const SideSums& of = sides[i][k];
      const std::size_t row = k == 0 ? 0 : 2 * k - 1;
      sides_[i][row] = total(of.c1);
      sides_[i][half + row] = total(of.c0);
      if (k == 0) continue;
      sides_[i][row + 1] = total(of.s1);
      sides_[i][half + row + 1] = total(of.s0);
    }
}

// One row of a block: a cosine or a sine of order k against those of the orders 0 … last, from the sums of
// cosines and sines of their sums and differences. cos(a)·sin(b) = (sin(b + a) + sin(b - a))/2.
void OrderFitter::fill_row(const double* c, const double* s, std::size_t k, bool is_sine, std::size_t last,
                           double* row) {
  row[0] = is_sine ? (s[k] + s[k]) / 2 : (c[k] + c[k]) / 2;
  for (std::size_t m = 1; m <= last; ++m) {
    const std::size_t apart = k > m ? k - m : m - k, sum = k + m;
    const double sign = (is_sine ? k >= m : m >= k) ? 1 : -1, turned = (s[sum] + sign * s[apart]) / 2;
    row[2 * m - 1] = is_sine ? turned : (c[apart] + c[sum]) / 2;
    row[2 * m] = is_sine ? (c[apart] - c[sum]) / 2 : turned;
  }
}

void OrderFitter::fill_matrix() {
  const auto orders = static_cast<std::size_t>(highest_), half = 2 * orders + 1, size = 2 * half;
  matrix_.resize(size * size);
  for (std::size_t block_row = 0; block_row < 2; ++block_row)
    for (std::size_t block = 0; block <= block_row; ++block) {
      const std::size_t power = (1 - block_row) + (1 - block);
      const double *c = sum_cos_[power].data(), *s = sum_sin_[power].data();
      const auto row = [&](std::size_t i) { return &matrix_[(block_row * half + i) * size + block * half]; };
      // What lies beyond the diagonal is read by nobody.
      for (std::size_t k = 0; k <= orders; ++k) {
        const std::size_t last = block == block_row ? k : orders;
        fill_row(c, s, k, false, last, row(k == 0 ? 0 : 2 * k - 1));
        if (k > 0) fill_row(c, s, k, true, last, row(2 * k));
      }
    }
  for (std::size_t i = 0; i < size; ++i) matrix_[i * size + i] *= 1 + kGuard;
}

FrameFit OrderFitter::fit(std::span<const double> cosine, std::span<const double> sine,
                          std::span<const std::span<const double>> signals) {
  sum_phases(cosine, sine, signals);
  fill_matrix();
  const auto half = static_cast<std::size_t>(2 * highest_ + 1), size = 2 * half;
  const BlockSolution solution = solve_block(matrix_, size, sides_, half, room_);
  FrameFit fit;
  unknowns_ = solution.unknowns;
  if (!solution.solved) return fit;
  auto inflation = [&](std::size_t row) {
    return solution.last_inverse_diagonal[row] * matrix_[(half + row) * size + half + row];
  };
  fit.inflation.push_back(inflation(0));
  for (std::size_t k = 1; k <= static_cast<std::size_t>(highest_); ++k)
    fit.inflation.push_back(std::max(inflation(2 * k - 1), inflation(2 * k)));
  for (std::size_t i = 0; i < signals.size(); ++i) {
    const auto& x = solution.unknowns[i];
    FrameOrders orders;
    orders.amplitude.emplace_back(x[half], 0.0);
    for (std::size_t k = 1; k <= static_cast<std::size_t>(highest_); ++k)
      orders.amplitude.emplace_back(x[half + 2 * k - 1], -x[half + 2 * k]);
    double power = 0, explained = 0;
    for (std::size_t n = 0; n < weights_.size(); ++n) power += weights_[n] * signals[i][n] * signals[i][n];
    for (std::size_t r = 0; r < size; ++r) explained += x[r] * sides_[i][r];
    orders.residual_power = std::max(0.0, power - explained);
    fit.signals.push_back(std::move(orders));
  }
  return fit;
}

void OrderFitter::find_sigmas(std::span<const double> cosine, std::span<const double> sine,
                              std::span<const double> signal, std::size_t index, const OrderPlaces& places,
                              FrameFit& fit) {
  if (fit.signals.empty()) return;
  const std::size_t frame = weights_.size();
  const auto half = static_cast<std::size_t>(2 * highest_ + 1);
  const std::vector<double>& x = unknowns_[index];
  if (!transform_) transform_ = std::make_unique<RealTransform>(fast_transform_length(frame));
  const auto rest = transform_->input();
  std::copy_n(signal.begin(), frame, rest.begin());
  std::fill(re_.begin(), re_.end(), 1.0);
  std::fill(im_.begin(), im_.end(), 0.0);
  for (std::size_t from = 0; from < frame; from += kPiece)
    for (std::size_t k = 0; k <= static_cast<std::size_t>(highest_); ++k) {
      const std::size_t row = k == 0 ? 0 : 2 * k - 1;
      const double of[4] = {x[half + row], x[row], k == 0 ? 0 : x[half + row + 1], k == 0 ? 0 : x[row + 1]};
      take_off(cosine.data(), sine.data(), slope_.data(), re_.data(), im_.data(), from,
               std::min(frame, from + kPiece), of, rest.data());
    }
  double power = 0;
  for (std::size_t n = 0; n < frame; ++n) {
    power += weights_[n] * rest[n] * rest[n];
    rest[n] *= weights_[n];
  }
  std::fill(rest.begin() + static_cast<std::ptrdiff_t>(frame), rest.end(), 0.0);
  transform_->execute();
  const auto bins = transform_->bins();
  std::vector<double> sums(bins.size() + 1, 0.0);
  for (std::size_t b = 0; b < bins.size(); ++b) sums[b + 1] = sums[b] + std::norm(bins[b]);
  const double mean = sums.back() / static_cast<double>(bins.size());
  // Each unknown takes as much of the freedom as its own row says.
  const double taken = std::min(kMostTaken, static_cast<double>(half) * (squares_ + slope_squares_));
  std::vector<double>& sigma = fit.signals[index].sigma;
  for (std::size_t k = 0; k <= static_cast<std::size_t>(highest_); ++k) {
    const double turns = static_cast<double>(k) * places.cycles_per_sample,
                 at = std::abs(turns - std::round(turns)), bin = static_cast<double>(transform_->length());
    const auto first = static_cast<std::size_t>(std::max(0.0, (at - places.reach) * bin)),
               end = std::min(bins.size(), static_cast<std::size_t>((at + places.reach) * bin) + 1);
    const double here = end > first ? (sums[end] - sums[first]) / static_cast<double>(end - first) : mean;
    const double local = mean > 0 ? std::max(kLeastLocal, std::sqrt(here / mean)) : 1;
    sigma.push_back(std::sqrt(4 * squares_ * fit.inflation[k] * power / (1 - taken)) * local);
  }
}

}  // namespace wavicon::measure_detail
