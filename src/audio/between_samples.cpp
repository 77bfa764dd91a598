// SPDX-License-Identifier: MIT
#include "wavicon/audio/between_samples.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kTaps = 2 * kBetweenReach;  // as many on each side of the place
constexpr double kBeta = 6;                       // 63 dB; passes 0.4 of the rate within 0.01 dB
constexpr std::size_t kLanes = 4;  // samples summed side by side, in an order that no compiler changes

using Phases = std::array<std::array<double, kTaps>, 3>;

// Weights of samples n - 15 … n + 16 for the places n + 1/4, n + 2/4, n + 3/4.
const Phases& phases() {
  static const Phases table = [] {
    Phases result{};
    const auto window = kaiser_window(8 * kTaps, kBeta);
    for (std::size_t p = 0; p < 3; ++p) {
      double sum = 0;
      for (std::size_t k = 0; k < kTaps; ++k) {
        const double at = static_cast<double>(p + 1) / 4;
        const double d = std::numbers::pi * (static_cast<double>(k) - (kBetweenReach - 1) - at);
        // The window's samples lie at the centres of its steps: this distance is half-way between two.
        const std::size_t beside = 8 * k + 5 - 2 * p;
        result[p][k] = std::sin(d) / d * (window[beside] + window[beside + 1]) / 2;
        sum += result[p][k];
      }
      for (double& weight : result[p]) weight /= sum;
    }
    return result;
  }();
  return table;
}

constexpr std::size_t kSide = 8;  // places summed at once
using Side = double __attribute__((vector_size(kSide * sizeof(double))));

// The highest and the lowest sum of what they were and those at kBlocks·kSide places from x on: blocks that
// do not wait for each other.
template <std::size_t kBlocks>
WAVICON_WITHIN_WIDE void join_sums(const double* x, const double* weights, Side& highest, Side& lowest) {
  Side sum[kBlocks] = {};
  for (std::size_t k = 0; k < kTaps; ++k)
    for (std::size_t i = 0; i < kBlocks; ++i) {
      Side v;
      std::memcpy(&v, x + i * kSide + k, sizeof v);
      sum[i] += weights[k] * v;
    }
  for (const Side& one : sum) {
    highest = one > highest ? one : highest;
    lowest = one < lowest ? one : lowest;
  }
}

// Highest magnitude at `count` places, a multiple of kSide, of one distance; place n is x[n + 15] … x[n +
// 16].
WAVICON_WIDE void highest_of(const double* x, std::size_t count, const double* weights, double* result) {
  constexpr std::size_t kBlocks = 4;
  Side highest{}, lowest{};
  std::size_t n = 0;
  for (; n + kBlocks * kSide <= count; n += kBlocks * kSide)
    join_sums<kBlocks>(x + n, weights, highest, lowest);
  for (; n < count; n += kSide) join_sums<1>(x + n, weights, highest, lowest);
  double most = *result;
  for (std::size_t i = 0; i < kSide; ++i) most = std::max({most, highest[i], -lowest[i]});
  *result = most;
}

// By how much what lies between samples can exceed them all.
double most_gained() {
  static const double most = [] {
    double largest = 0;
    for (const auto& weights : phases()) {
      double sum = 0;
      for (const double weight : weights) sum += std::abs(weight);
      largest = std::max(largest, sum);
    }
    return largest;
  }();
  return most;
}

constexpr std::size_t kPatch = 64;  // places that are looked at or passed over together
static_assert(kTaps % kSide == 0 && kPatch % kSide == 0);

struct PatchPeaks {
  double own, around;
};

// Of a patch's samples, and of all that sums between them take in, at one look.
WAVICON_WIDE void find_peaks(const double* x, PatchPeaks* peaks) {
  constexpr auto kRows = static_cast<std::ptrdiff_t>(kPatch / kSide),
                 kBeside = static_cast<std::ptrdiff_t>(kBetweenReach / kSide);
  double own[kSide] = {}, beside[kSide] = {};
  const auto look = [&](std::ptrdiff_t row, double* highest) __attribute__((always_inline)) {
    for (std::size_t i = 0; i < kSide; ++i) {
      const double size =
          std::abs(x[row * static_cast<std::ptrdiff_t>(kSide) + static_cast<std::ptrdiff_t>(i)]);
      highest[i] = highest[i] < size ? size : highest[i];
    }
  };
  for (std::ptrdiff_t row = 0; row < kRows; ++row) look(row, own);
  for (std::ptrdiff_t row = 0; row < kBeside; ++row) {
    look(row - kBeside, beside);
    look(row + kRows, beside);
  }
  double most = 0, others = 0;
  for (std::size_t i = 0; i < kSide; ++i) {
    most = std::max(most, own[i]);
    others = std::max(others, beside[i]);
  }
  *peaks = {most, std::max(most, others)};
}
static_assert(kBetweenReach % kSide == 0);

// The highest of what was found before and `count` places after x[0] … x[count - 1], from x[-16] to
// x[count + 15], the samples among them.
double highest_here(const double* x, std::size_t count, std::size_t places, double found) {
  std::array<double, kPatch + 2 * kBetweenReach> padded;
  if (count < kPatch) {
    // What lies behind a short patch is no place, and no sample of its own.
    std::copy_n(x - kBetweenReach, count + 2 * kBetweenReach, padded.begin());
    std::fill(padded.begin() + static_cast<std::ptrdiff_t>(count + 2 * kBetweenReach), padded.end(), 0.0);
    for (std::size_t n = 0; n < count; ++n) found = std::max(found, std::abs(x[n]));
    x = padded.data() + kBetweenReach;
  }
  PatchPeaks peaks{};
  find_peaks(x, &peaks);
  if (count == kPatch) found = std::max(found, peaks.own);
  if (places == 1 || peaks.around * most_gained() <= found) return found;
  const double* first = x - (kBetweenReach - 1);
  const std::size_t whole = count / kSide * kSide;
  for (std::size_t p = 0; p < 3; ++p) {
    if (places == 2 && p != 1) continue;
    highest_of(first, whole, phases()[p].data(), &found);
    for (std::size_t n = whole; n < count; ++n) {
      double sum = 0;
      for (std::size_t k = 0; k < kTaps; ++k) sum += phases()[p][k] * first[n + k];
      found = std::max(found, std::abs(sum));
    }
  }
  return found;
}

// Four places at once, so that the sums run side by side.
WAVICON_WIDE void sums(const double* x, const double* weights, double* result) {
  double lane[kLanes] = {};
  for (std::size_t k = 0; k < kTaps; ++k)
    for (std::size_t i = 0; i < kLanes; ++i) lane[i] += weights[k] * x[k + i];
  for (std::size_t i = 0; i < kLanes; ++i) result[i] = lane[i];
}

}  // namespace

std::pair<double, std::size_t> highest_between(std::span<const double> samples) {
  std::pair<double, std::size_t> highest{0, 0};
  if (samples.size() <= kTaps) return highest;
  const std::size_t count = samples.size() - kTaps;
  double found[kLanes];
  // Four places are looked at together: a shorter run gets silence behind it, which is not counted.
  std::array<double, kTaps + kLanes> padded{};
  if (count < kLanes) {
    std::copy(samples.begin(), samples.end(), padded.begin());
    samples = padded;
  }
  for (std::size_t n = 0; n < count; n += kLanes) {
    // The last few are looked at again rather than read beyond the end.
    const std::size_t at = n + kLanes <= count ? n : (count >= kLanes ? count - kLanes : 0);
    for (const auto& weights : phases()) {
      sums(samples.data() + at + 1, weights.data(), found);
      for (std::size_t i = 0; i < std::min(kLanes, count); ++i)
        if (std::abs(found[i]) > highest.first) highest = {std::abs(found[i]), at + i};
    }
  }
  return highest;
}

namespace {

std::size_t places_at(double rate) {
  constexpr double kFourBelowHz = 80000, kTwoBelowHz = 176000;
  return rate < kFourBelowHz ? 4 : rate < kTwoBelowHz ? 2 : 1;
}

}  // namespace

TruePeakMeter::TruePeakMeter(double sample_rate_hz)
    : places_(places_at(sample_rate_hz)), held_(kBetweenReach, 0.0) {}

void TruePeakMeter::lead_in(std::span<const double> before) {
  const std::size_t count = std::min(before.size(), kBetweenReach);
  std::copy(before.end() - static_cast<std::ptrdiff_t>(count), before.end(),
            held_.end() - static_cast<std::ptrdiff_t>(count));
}

void TruePeakMeter::reserve(std::size_t samples) {
  // What is held from the block before is shorter than what one look needs.
  held_.reserve(samples + kPatch + 2 * kBetweenReach);
  (void)phases();  // computed when they are used first
}

void TruePeakMeter::push(std::span<const double> samples) {
  held_.insert(held_.end(), samples.begin(), samples.end());
  std::size_t at = kBetweenReach;
  for (; at + kPatch + kBetweenReach <= held_.size(); at += kPatch)
    highest_ = highest_here(held_.data() + at, kPatch, places_, highest_);
  held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(at - kBetweenReach));
}

double TruePeakMeter::highest(std::span<const double> after) const {
  std::vector<double> rest = held_;
  const std::size_t own = rest.size() - kBetweenReach;
  const std::size_t behind = std::min(after.size(), kBetweenReach);
  rest.insert(rest.end(), after.begin(), after.begin() + static_cast<std::ptrdiff_t>(behind));
  rest.resize(kBetweenReach + own + kBetweenReach, 0.0);
  double highest = highest_;
  for (std::size_t done = 0; done < own; done += kPatch)
    highest =
        highest_here(rest.data() + kBetweenReach + done, std::min(kPatch, own - done), places_, highest);
  return highest;
}

}  // namespace wavicon
