// SPDX-License-Identifier: MIT
#include "wavicon/audio/fractional.hpp"

#include <algorithm>
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

// The same for kLanes places one sample apart that lie between the same filters: side by side, so that none
// waits for the one before. parts: of a sample, from the middle filter, of each place.
WAVICON_WIDE void sums_side_by_side(const double* x, const double* filters, const double* parts,
                                    double* out) {
  Lanes a{}, b{}, c{}, t;
  for (std::size_t k = 0; k < kTaps; ++k) {
    Lanes sample;
    std::memcpy(&sample, x + k, sizeof sample);
    a += filters[k] * sample;
    b += filters[kTaps + k] * sample;
    c += filters[2 * kTaps + k] * sample;
  }
  std::memcpy(&t, parts, sizeof t);
  const Lanes result = 0.5 * t * (t - 1.0) * a + (1.0 - t * t) * b + 0.5 * t * (t + 1.0) * c;
  std::memcpy(out, &result, sizeof result);
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
  std::size_t n = 0;
  while (n + kLanes <= count) {
    const Place begin = place_of(first + static_cast<double>(n) * step),
                end = place_of(first + static_cast<double>(n + kLanes - 1) * step);
    if (end.row != begin.row || end.whole != begin.whole + static_cast<std::ptrdiff_t>(kLanes - 1)) {
      read_one_by_one(x, filters, first + static_cast<double>(n) * step, step, out + n, 1);
      ++n;
      continue;
    }
    double parts[kLanes];
    for (std::size_t i = 0; i < kLanes; ++i)
      parts[i] = place_of(first + static_cast<double>(n + i) * step).part;
    sums_side_by_side(x + begin.whole - (FractionalReader::kReach - 1),
                      filters + begin.row * static_cast<std::ptrdiff_t>(kTaps), parts, out + n);
    n += kLanes;
  }
  read_one_by_one(x, filters, first + static_cast<double>(n) * step, step, out + n, count - n);
}

WAVICON_WIDE double one_sum(const double* x, const double* filter) {
  Lanes a{}, b{};
  for (std::size_t k = 0; k < kTaps; k += 2 * kLanes) {
    Lanes sample, weight;
    std::memcpy(&sample, x + k, sizeof sample);
    std::memcpy(&weight, filter + k, sizeof weight);
    a += weight * sample;
    std::memcpy(&sample, x + k + kLanes, sizeof sample);
    std::memcpy(&weight, filter + k + kLanes, sizeof weight);
    b += weight * sample;
  }
  a += b;
  return ((a[0] + a[1]) + (a[2] + a[3])) + ((a[4] + a[5]) + (a[6] + a[7]));
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
  std::vector<double> padded(out.size() + kTaps, 0.0);
  const auto size = static_cast<std::ptrdiff_t>(x.size());
  const std::ptrdiff_t from = std::clamp<std::ptrdiff_t>(begin, 0, size),
                       to = std::clamp<std::ptrdiff_t>(begin + static_cast<std::ptrdiff_t>(padded.size()),
                                                       from, size);
  if (to > from) std::copy(x.begin() + from, x.begin() + to, padded.begin() + (from - begin));
  for (std::size_t n = 0; n < out.size(); ++n) out[n] = one_sum(padded.data() + n, filter.data());
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
