// SPDX-License-Identifier: MIT
#include "samples.hpp"

#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::size_t kLanes = 8;

// Sums of lanes, in one order.
double added(const double* lanes) {
  return ((lanes[0] + lanes[4]) + (lanes[2] + lanes[6])) + ((lanes[1] + lanes[5]) + (lanes[3] + lanes[7]));
}

// Pairs of doubles; products are added up with their signs in them, as in transform.cpp.
WAVICON_WIDE void multiply(double* bins, const double* others, std::size_t count) {
  for (std::size_t k = 0; k < count; ++k) {
    const double re = bins[2 * k], im = bins[2 * k + 1], other_re = others[2 * k],
                 other_im = others[2 * k + 1];
    bins[2 * k] = re * other_re + im * other_im;
    bins[2 * k + 1] = im * other_re + -re * other_im;
  }
}

WAVICON_WIDE void add_products(const double* x, const double* y, std::size_t count, double* sums) {
  double lanes[kLanes] = {};
  std::size_t n = 0;
  for (; n + kLanes <= count; n += kLanes)
    for (std::size_t i = 0; i < kLanes; ++i) lanes[i] += x[n + i] * y[n + i];
  for (std::size_t i = 0; n < count; ++n, ++i) lanes[i] += x[n] * y[n];
  std::copy(lanes, lanes + kLanes, sums);
}

// Phases of eight neighbours, and what turns them to the next eight.
struct Turning {
  Turning(std::complex<double> phase, std::complex<double> step) {
    for (std::size_t j = 0; j < kLanes; ++j, phase *= step) {
      re[j] = phase.real();
      im[j] = phase.imag();
    }
    for (std::size_t n = 1; n < kLanes; n *= 2) step *= step;
    step_re = step.real();
    step_im = step.imag();
  }
  double re[kLanes], im[kLanes], step_re, step_im;
};

// Every eighth bin in a lane of its own, turned.
WAVICON_WIDE void add_turned(const double* bins, std::size_t groups, const Turning& from, double* sums) {
  Turning at = from;
  double lanes[kLanes] = {};
  for (std::size_t g = 0; g < groups; ++g)
    for (std::size_t j = 0; j < kLanes; ++j) {
      const double* bin = bins + 2 * (kLanes * g + j);
      const double re = at.re[j], im = at.im[j];
      lanes[j] += bin[0] * re + -bin[1] * im;
      at.re[j] = re * at.step_re + -im * at.step_im;
      at.im[j] = re * at.step_im + im * at.step_re;
    }
  std::copy(lanes, lanes + kLanes, sums);
}

// Each order's sum in lanes, its phases products of the first one's.
WAVICON_WIDE void add_orders(const double* x, std::size_t groups, const Turning& from, std::size_t orders,
                             double* re_sums, double* im_sums) {
  Turning at = from;
  for (std::size_t g = 0; g < groups; ++g) {
    double re[kLanes], im[kLanes];
    for (std::size_t j = 0; j < kLanes; ++j) {
      re[j] = at.re[j];
      im[j] = at.im[j];
    }
    for (std::size_t k = 0; k < orders; ++k)
      for (std::size_t j = 0; j < kLanes; ++j) {
        const double v = x[kLanes * g + j], p_re = re[j], p_im = im[j];
        re_sums[kLanes * k + j] += v * p_re;
        im_sums[kLanes * k + j] += v * p_im;
        re[j] = p_re * at.re[j] + -p_im * at.im[j];
        im[j] = p_re * at.im[j] + p_im * at.re[j];
      }
    for (std::size_t j = 0; j < kLanes; ++j) {
      const double t_re = at.re[j], t_im = at.im[j];
      at.re[j] = t_re * at.step_re + -t_im * at.step_im;
      at.im[j] = t_re * at.step_im + t_im * at.step_re;
    }
  }
}

struct FadedSums {
  double re[kLanes] = {}, im[kLanes] = {}, weight[kLanes] = {};
};

// Σ h·x·e^{jφ} and Σ h under h = (1 - cos)/2, in lanes; of a group the first `lanes` count.
WAVICON_WIDE void add_faded(const double* x, std::size_t groups, std::size_t lanes, Turning& fade,
                            Turning& carrier, FadedSums& sums) {
  Turning f = fade, c = carrier;
  FadedSums s = sums;
  double counts[kLanes];
  for (std::size_t j = 0; j < kLanes; ++j) counts[j] = j < lanes ? 0.5 : 0.0;
  for (std::size_t g = 0; g < groups; ++g)
    for (std::size_t j = 0; j < kLanes; ++j) {
      const double f_re = f.re[j], f_im = f.im[j], c_re = c.re[j], c_im = c.im[j];
      const double h = counts[j] - counts[j] * f_re, v = h * x[kLanes * g + j];
      s.re[j] += v * c_re;
      s.im[j] += v * c_im;
      s.weight[j] += h;
      f.re[j] = f_re * f.step_re + -f_im * f.step_im;
      f.im[j] = f_re * f.step_im + f_im * f.step_re;
      c.re[j] = c_re * c.step_re + -c_im * c.step_im;
      c.im[j] = c_re * c.step_im + c_im * c.step_re;
    }
  fade = f;
  carrier = c;
  sums = s;
}

WAVICON_WIDE void count_unlike(const double* x, const double* y, double factor, std::size_t count,
                               std::int64_t* unlike) {
  std::int64_t sum = 0;
  for (std::size_t n = 0; n < count; ++n) sum += static_cast<std::int64_t>(!(x[n] == factor * y[n]));
  *unlike = sum;
}

WAVICON_WIDE void find_highest(const double* bins, std::size_t count, double* highest) {
  double lanes[kLanes] = {};
  std::size_t k = 0;
  for (; k + kLanes <= count; k += kLanes)
    for (std::size_t i = 0; i < kLanes; ++i) {
      const double re = bins[2 * (k + i)], im = bins[2 * (k + i) + 1], power = re * re + im * im;
      lanes[i] = power > lanes[i] ? power : lanes[i];
    }
  for (; k < count; ++k)
    lanes[0] = std::max(lanes[0], bins[2 * k] * bins[2 * k] + bins[2 * k + 1] * bins[2 * k + 1]);
  *highest = *std::max_element(lanes, lanes + kLanes);
}

}  // namespace

double sum_of_products(std::span<const double> x, std::span<const double> y) {
  double sums[kLanes] = {};
  add_products(x.data(), y.data(), x.size(), sums);
  return added(sums);
}

double sum_of_turned(std::span<const std::complex<double>> bins, double turn) {
  const std::complex<double> step = std::polar(1.0, turn);
  const std::size_t groups = bins.size() / kLanes;
  double sums[kLanes];
  add_turned(reinterpret_cast<const double*>(bins.data()), groups, Turning(1.0, step), sums);
  double sum = added(sums);
  std::complex<double> phase = std::polar(1.0, turn * static_cast<double>(groups * kLanes));
  for (std::size_t k = groups * kLanes; k < bins.size(); ++k, phase *= step) sum += (bins[k] * phase).real();
  return sum;
}

bool are_alike(std::span<const double> x, std::span<const double> y, double factor) {
  constexpr std::size_t kPiece = 256;  // compared without a decision after each
  std::int64_t unlike = 0;
  for (std::size_t at = 0; at < x.size() && unlike == 0; at += kPiece)
    count_unlike(x.data() + at, y.data() + at, factor, std::min(kPiece, x.size() - at), &unlike);
  return unlike == 0;
}

double highest_power(std::span<const std::complex<double>> bins) {
  double highest = 0;
  find_highest(reinterpret_cast<const double*>(bins.data()), bins.size(), &highest);
  return highest;
}

void times_conjugates(std::span<std::complex<double>> bins, std::span<const std::complex<double>> others) {
  multiply(reinterpret_cast<double*>(bins.data()), reinterpret_cast<const double*>(others.data()),
           bins.size());
}

std::vector<double> correlation_of(std::span<const double> x, std::span<const double> y) {
  RealTransform transform(fast_transform_length(x.size() + y.size()));
  const auto own = transform.bins_of(x);
  auto cross = transform.bins_of(y);
  times_conjugates(cross, own);
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
  const std::complex<double> half_turn = std::polar(1.0, std::numbers::pi / frames);
  Turning fade(half_turn, half_turn * half_turn),
      carrier(std::polar(1.0, 2 * std::numbers::pi * cycles_per_frame * middle),
              std::polar(1.0, -2 * std::numbers::pi * cycles_per_frame));
  FadedSums sums;
  const std::size_t groups = x.size() / kLanes, rest = x.size() % kLanes;
  add_faded(x.data(), groups, kLanes, fade, carrier, sums);
  if (rest > 0) {
    double last[kLanes] = {};
    std::copy_n(x.end() - static_cast<std::ptrdiff_t>(rest), rest, last);
    add_faded(last, 1, rest, fade, carrier, sums);
  }
  return std::complex<double>(0, 2) * std::complex<double>(added(sums.re), added(sums.im)) /
         added(sums.weight);
}

std::vector<double> powers_of_orders(std::span<const double> x, double cycles_per_frame, int most,
                                     double highest) {
  std::size_t orders = 0;
  while (orders < static_cast<std::size_t>(most) &&
         cycles_per_frame * static_cast<double>(orders + 1) < highest)
    ++orders;
  const double turn = -2 * std::numbers::pi * cycles_per_frame;
  std::vector<double> re(kLanes * orders), im(kLanes * orders), powers;
  const std::size_t groups = x.size() / kLanes, whole = groups * kLanes;
  add_orders(x.data(), groups, Turning(1.0, std::polar(1.0, turn)), orders, re.data(), im.data());
  double rest[kLanes] = {};
  std::copy(x.begin() + static_cast<std::ptrdiff_t>(whole), x.end(), rest);
  add_orders(rest, 1, Turning(std::polar(1.0, turn * static_cast<double>(whole)), std::polar(1.0, turn)),
             orders, re.data(), im.data());
  for (std::size_t k = 0; k < orders; ++k) {
    const double real = added(&re[kLanes * k]), imaginary = added(&im[kLanes * k]);
    powers.push_back(real * real + imaginary * imaginary);
  }
  return powers;
}

}  // namespace wavicon::intake_detail
