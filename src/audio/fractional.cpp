// SPDX-License-Identifier: MIT
#include "wavicon/audio/fractional.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <memory>
#include <new>
#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kTaps = 2 * FractionalReader::kReach;  // as many on each side of the place
constexpr std::size_t kPhases = 1024;  // filters between two samples; cubic between them
constexpr double kBeta = 18;           // of the Kaiser window: images at -172 dB
constexpr std::size_t kLanes = 8;      // doubles side by side

using Lanes = double __attribute__((vector_size(kLanes * sizeof(double))));

// Three neighbouring filters over the same samples, joined by weights.
inline double three_sums(const double* x, const double* filters, double u, double v, double w) {
  Lanes a{}, b{}, c{};
  for (std::size_t k = 0; k < kTaps; k += kLanes) {
    Lanes sample, weight;
    std::memcpy(&sample, x + k, sizeof sample);
    std::memcpy(&weight, filters + k, sizeof weight);
    a += weight * sample;
    std::memcpy(&weight, filters + kTaps + k, sizeof weight);
    b += weight * sample;
    std::memcpy(&weight, filters + 2 * kTaps + k, sizeof weight);
    c += weight * sample;
  }
  a = u * a + v * b + w * c;
  return ((a[0] + a[1]) + (a[2] + a[3])) + ((a[4] + a[5]) + (a[6] + a[7]));
}

// Where a place lies.
struct Place {
  std::ptrdiff_t whole, row;
  double part;
};

inline Place place_of(double place) {
  const auto whole = static_cast<std::ptrdiff_t>(place);
  const double phase = (place - static_cast<double>(whole)) * kPhases + 0.5;
  const auto row = static_cast<std::ptrdiff_t>(phase);
  return {whole, row, phase - static_cast<double>(row) - 0.5};
}

// What three_sums() gives, for kBlocks·kLanes places n, n + 1, … that lie between the same filters, a sample
// apart: side by side, so that none waits for the one before. Parts of a sample from the middle filter are
// found as place_of() does.
template <std::size_t kBlocks>
WAVICON_WITHIN_WIDE void sums_side_by_side(const double* x, const double* filters, double first, double step,
                                           std::size_t n, const Place& begin, double* out) {
  Lanes a[kBlocks] = {}, b[kBlocks] = {}, c[kBlocks] = {};
  for (std::size_t k = 0; k < kTaps; ++k)
    for (std::size_t i = 0; i < kBlocks; ++i) {
      Lanes sample;
      std::memcpy(&sample, x + i * kLanes + k, sizeof sample);
      a[i] += filters[k] * sample;
      b[i] += filters[kTaps + k] * sample;
      c[i] += filters[2 * kTaps + k] * sample;
    }
  const auto whole = static_cast<double>(begin.whole), row = static_cast<double>(begin.row);
  for (std::size_t i = 0; i < kBlocks; ++i) {
    constexpr Lanes kApart{0, 1, 2, 3, 4, 5, 6, 7};
    const Lanes block = kApart + static_cast<double>(i * kLanes);
    const Lanes place = first + (static_cast<double>(n) + block) * step;
    const Lanes t = ((place - (whole + block)) * static_cast<double>(kPhases) + 0.5) - row - 0.5;
    const Lanes result = 0.5 * t * (t - 1.0) * a[i] + (1.0 - t * t) * b[i] + 0.5 * t * (t + 1.0) * c[i];
    std::memcpy(out + i * kLanes, &result, sizeof result);
  }
}

WAVICON_WIDE void sums_of_one_block(const double* x, const double* filters, double first, double step,
                                    std::size_t n, const Place& begin, double* out) {
  sums_side_by_side<1>(x, filters, first, step, n, begin, out);
}
WAVICON_WIDE void sums_of_two_blocks(const double* x, const double* filters, double first, double step,
                                     std::size_t n, const Place& begin, double* out) {
  sums_side_by_side<2>(x, filters, first, step, n, begin, out);
}

WAVICON_WIDE void read_one_by_one(const double* x, const double* filters, double first, double step,
                                  double* out, std::size_t count) {
  for (std::size_t n = 0; n < count; ++n) {
    const auto [whole, row, t] = place_of(first + static_cast<double>(n) * step);
    out[n] = three_sums(x + whole - (FractionalReader::kReach - 1),
                        filters + row * static_cast<std::ptrdiff_t>(kTaps), 0.5 * t * (t - 1), 1 - t * t,
                        0.5 * t * (t + 1));
  }
}

// out[n] = x(first + n·step) where every sample that is needed is there. Quadratic through three filters
// about the place (Lagrange).
void read_inside(const double* x, const double* filters, double first, double step, double* out,
                 std::size_t count) {
  const auto place = [&](std::size_t n) { return place_of(first + static_cast<double>(n) * step); };
  std::size_t n = 0;
  while (n + kLanes <= count) {
    const Place begin = place(n);
    // Whether so many places from n on lie between the same filters, a sample apart.
    const auto alike = [&](std::size_t places) {
      const Place end = place(n + places - 1);
      return end.row == begin.row && end.whole == begin.whole + static_cast<std::ptrdiff_t>(places - 1);
    };
    const std::size_t side_by_side = n + 2 * kLanes <= count && alike(2 * kLanes) ? 2 * kLanes
                                     : alike(kLanes)                              ? kLanes
                                                                                  : 0;
    if (side_by_side == 0) {
      read_one_by_one(x, filters, first + static_cast<double>(n) * step, step, out + n, 1);
      ++n;
      continue;
    }
    const auto sums = side_by_side == kLanes ? sums_of_one_block : sums_of_two_blocks;
    sums(x + begin.whole - (FractionalReader::kReach - 1),
         filters + begin.row * static_cast<std::ptrdiff_t>(kTaps), first, step, n, begin, out + n);
    n += side_by_side;
  }
  read_one_by_one(x, filters, first + static_cast<double>(n) * step, step, out + n, count - n);
}

constexpr std::size_t kInStep = 4 * kLanes;  // places under one filter, side by side

template <std::size_t kBlocks>
WAVICON_WITHIN_WIDE void sums_in_step(const double* x, const double* filter, double* out) {
  Lanes sum[kBlocks] = {};
  for (std::size_t k = 0; k < kTaps; ++k)
    for (std::size_t i = 0; i < kBlocks; ++i) {
      Lanes sample;
      std::memcpy(&sample, x + i * kLanes + k, sizeof sample);
      sum[i] += filter[k] * sample;
    }
  for (std::size_t i = 0; i < kBlocks; ++i) std::memcpy(out + i * kLanes, &sum[i], sizeof sum[i]);
}

// out[n] = Σ filter[k]·x[n + k]; `count` is a multiple of kLanes.
WAVICON_WIDE void read_all_in_step(const double* x, const double* filter, double* out, std::size_t count) {
  std::size_t n = 0;
  for (; n + kInStep <= count; n += kInStep) sums_in_step<kInStep / kLanes>(x + n, filter, out + n);
  for (; n < count; n += kLanes) sums_in_step<1>(x + n, filter, out + n);
}

// Begins where a register's worth of memory does: a row that straddles two lines of the cache is read twice.
struct AlignedFree {
  void operator()(double* memory) const noexcept { std::free(memory); }
};
using Filters = std::unique_ptr<double[], AlignedFree>;

constexpr std::size_t kFilterValues = (kPhases + 3) * kTaps;

Filters make_filters() {
  constexpr std::size_t kLine = 64;
  Filters filters(static_cast<double*>(std::aligned_alloc(kLine, kFilterValues * sizeof(double))));
  if (!filters) throw std::bad_alloc();
  // The window at every place that is needed: steps of 1/kPhases of a sample, taken half-way between two of
  // its own samples.
  const std::size_t per_sample = 2 * kPhases;
  const auto window = kaiser_window(kTaps * per_sample, kBeta);
  for (std::size_t row = 0; row < kPhases + 3; ++row) {
    const double fraction = (static_cast<double>(row) - 1.0) / kPhases;
    for (std::size_t k = 0; k < kTaps; ++k) {
      const double d = static_cast<double>(k) - static_cast<double>(FractionalReader::kReach - 1) - fraction;
      const double at =
          (d + static_cast<double>(FractionalReader::kReach)) * static_cast<double>(per_sample) - 0.5;
      const auto left = static_cast<std::ptrdiff_t>(std::floor(at));
      auto weight = [&](std::ptrdiff_t i) {
        return i < 0 || i >= static_cast<std::ptrdiff_t>(window.size()) ? 0.0
                                                                        : window[static_cast<std::size_t>(i)];
      };
      const double sinc = d == 0 ? 1.0 : std::sin(std::numbers::pi * d) / (std::numbers::pi * d);
      // Half-way: cubic through four, so that the window's bend is kept.
      filters[row * kTaps + k] =
          sinc * (9 * (weight(left) + weight(left + 1)) - (weight(left - 1) + weight(left + 2))) / 16;
    }
  }
  return filters;
}

}  // namespace

FractionalReader::FractionalReader() {
  static const Filters shared = make_filters();  // costs more than reading a second of audio
  filters_ = {shared.get(), kFilterValues};
}

void FractionalReader::read_in_step(std::span<const double> x, double first, std::span<double> out) const {
  const double whole = std::floor(first), phase = (first - whole) * kPhases + 0.5;
  const double row = std::floor(phase), t = phase - row - 0.5;
  const double u = 0.5 * t * (t - 1), v = 1 - t * t, w = 0.5 * t * (t + 1);
  const double* rows = filters_.data() + static_cast<std::size_t>(row) * kTaps;
  std::vector<double> filter(kTaps);
  for (std::size_t k = 0; k < kTaps; ++k)
    filter[k] = u * rows[k] + v * rows[kTaps + k] + w * rows[2 * kTaps + k];
  // A margin of silence around what is there, so that no place needs a look at the ends.
  const auto begin = static_cast<std::ptrdiff_t>(whole) - (kReach - 1);
  std::vector<double> padded(out.size() + kTaps + kLanes, 0.0);
  const auto size = static_cast<std::ptrdiff_t>(x.size());
  const std::ptrdiff_t from = std::clamp<std::ptrdiff_t>(begin, 0, size),
                       to = std::clamp<std::ptrdiff_t>(begin + static_cast<std::ptrdiff_t>(padded.size()),
                                                       from, size);
  if (to > from) std::copy(x.begin() + from, x.begin() + to, padded.begin() + (from - begin));
  const std::size_t whole_lanes = out.size() / kLanes * kLanes, rest = out.size() - whole_lanes;
  read_all_in_step(padded.data(), filter.data(), out.data(), whole_lanes);
  if (rest == 0) return;
  std::array<double, kLanes> last;
  read_all_in_step(padded.data() + whole_lanes, filter.data(), last.data(), kLanes);
  std::copy_n(last.begin(), rest, out.begin() + static_cast<std::ptrdiff_t>(whole_lanes));
}

void FractionalReader::read(std::span<const double> x, double first, double step,
                            std::span<double> out) const {
  if (step == 1) return read_in_step(x, first, out);
  // What lies where every sample is there goes in one run; the ends one by one, over a padded copy.
  const auto size = static_cast<double>(x.size());
  auto inside = [&](std::size_t n) {
    const double whole = std::floor(first + static_cast<double>(n) * step);
    return whole >= static_cast<double>(kReach) && whole + static_cast<double>(kReach) + 1 < size;
  };
  std::vector<double> edge(kTaps + 2);
  auto read_one = [&](std::size_t n) {
    const double place = first + static_cast<double>(n) * step;
    const auto begin = static_cast<std::ptrdiff_t>(std::floor(place)) - (kReach - 1);
    for (std::size_t k = 0; k < kTaps; ++k) {
      const std::ptrdiff_t i = begin + static_cast<std::ptrdiff_t>(k);
      edge[k] = i < 0 || i >= static_cast<std::ptrdiff_t>(x.size()) ? 0.0 : x[static_cast<std::size_t>(i)];
    }
    read_inside(edge.data(), filters_.data(), place - static_cast<double>(begin), step, out.data() + n, 1);
  };
  std::size_t from = 0, to = out.size();
  while (from < to && !inside(from)) read_one(from++);
  while (to > from && !inside(to - 1)) read_one(--to);
  if (to > from)
    read_inside(x.data(), filters_.data(), first + static_cast<double>(from) * step, step, out.data() + from,
                to - from);
}

}  // namespace wavicon
