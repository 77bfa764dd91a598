// SPDX-License-Identifier: MIT
#include "path/tern.hpp"

#include <algorithm>
#include <cstring>
#include <numbers>

#include "audio/wide.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::stand_in {
namespace {

constexpr double kKneeDb = 12;         // drive at which full scale drives the curve by 1
constexpr double kBiasKept = 0.01;     // of arctan(asymmetry) stays as DC
constexpr int kHalfLength = 64;        // of each filter, in frames of the signal's rate
constexpr double kFilterBeta = 10.06;  // 100 dB
constexpr double kCutoff = 0.475;      // of the signal's rate; 6 dB down here

constexpr std::size_t kBlock = 64;  // frames that are worked on at once

using Lanes = double __attribute__((vector_size(32)));
constexpr std::size_t kLanes = 4, kSide = 4;  // products of a sum, sums side by side

WAVICON_WITHIN_WIDE void add_four(Lanes& sum, const double* a, const double* b) {
  Lanes x, y;
  std::memcpy(&x, a, sizeof x);
  std::memcpy(&y, b, sizeof y);
  sum += x * y;
}

WAVICON_WITHIN_WIDE double added(const Lanes& sum) { return (sum[0] + sum[1]) + (sum[2] + sum[3]); }

// Σ a[i]·b[i] for each pair of rows, in a fixed order of additions: the same bits from every compiler. Four
// rows at a time, which wait for themselves alone.
WAVICON_WIDE void dots(const double* const* a, const double* const* b, std::size_t length,
                       double* const* out) noexcept {
  Lanes sums[kSide] = {};
  std::size_t i = 0;
  for (; i + kLanes <= length; i += kLanes)
    for (std::size_t row = 0; row < kSide; ++row) add_four(sums[row], a[row] + i, b[row] + i);
  for (; i < length; ++i)
    for (std::size_t row = 0; row < kSide; ++row) sums[row][0] += a[row][i] * b[row][i];
  for (std::size_t row = 0; row < kSide; ++row) *out[row] = added(sums[row]);
}

// Rows of products, collected until there are four of them.
class Rows {
 public:
  explicit Rows(std::size_t length) noexcept : length_(length) {}
  void add(const double* a, const double* b, double* out) noexcept {
    a_[count_] = a;
    b_[count_] = b;
    out_[count_] = out;
    if (++count_ == kSide) finish();
  }
  void finish() noexcept {
    if (count_ == 0) return;
    for (std::size_t row = count_; row < kSide; ++row) {
      a_[row] = a_[0];
      b_[row] = b_[0];
      out_[row] = &unused_;
    }
    dots(a_, b_, length_, out_);
    count_ = 0;
  }

 private:
  std::size_t length_, count_ = 0;
  const double *a_[kSide] = {}, *b_[kSide] = {};
  double* out_[kSide] = {};
  double unused_ = 0;
};

}  // namespace

Tern::Tern(const TernSettings& settings, double) : settings_(settings) {
  build_filter();
  set(settings);
}

void Tern::set(const TernSettings& settings) {
  const bool rebuilt = settings.oversampling != settings_.oversampling;
  settings_ = settings;
  if (rebuilt) build_filter();
  const double a = settings.asymmetry;
  bias_ = a;
  gain_ = ratio_from_db(settings.drive_db - kKneeDb);
  bias_out_ = (1.0 - kBiasKept) * arctangent(a);
  scale_ = (1.0 + a * a) / gain_ * ratio_from_db(settings.output_db);
}

void Tern::build_filter() {
  const auto factor = static_cast<std::size_t>(settings_.oversampling);
  up_phases_.assign(factor, {});
  down_.clear();
  in_.assign(kBlock + 2 * kHalfLength, 0.0);
  shaped_.assign(kBlock * factor, 0.0);
  if (factor == 1) return;
  const std::size_t length = 2 * kHalfLength * factor + 1;
  const auto window = kaiser_window(length, kFilterBeta);
  const double centre = static_cast<double>(length / 2);
  double sum = 0;
  down_.resize(length);
  for (std::size_t i = 0; i < length; ++i) {
    const double cycles = (static_cast<double>(i) - centre) * kCutoff / static_cast<double>(factor);
    const double sinc =
        cycles == 0 ? 1.0 : sine(phase_from_cycles(cycles)) / (2.0 * std::numbers::pi * cycles);
    down_[i] = sinc * window[i];
    sum += down_[i];
  }
  for (double& tap : down_) tap /= sum;
  for (std::size_t i = 0; i < length; ++i)
    up_phases_[i % factor].push_back(static_cast<double>(factor) * down_[i]);
  high_.assign(kBlock * factor + length - 1, 0.0);
}

void Tern::shape(std::span<double> values) const noexcept {
  for (double& value : values) value = gain_ * value + bias_;
  arctangent(values);
  for (double& value : values) value = (value - bias_out_) * scale_;
}

void Tern::oversample(std::span<const float> in, std::span<float> out) noexcept {
  const std::size_t factor = up_phases_.size(), frames = in.size();
  for (std::size_t n = 0; n < frames; ++n) in_[kBlock - 1 - n] = in[n];
  // The first phase has a tap more than the others.
  Rows first(up_phases_[0].size()), others(up_phases_[1].size()), down(down_.size());
  const std::span shaped = std::span(shaped_).first(frames * factor);
  for (std::size_t n = 0; n < frames; ++n)
    for (std::size_t phase = 0; phase < factor; ++phase)
      (phase == 0 ? first : others)
          .add(up_phases_[phase].data(), in_.data() + (kBlock - 1 - n), &shaped[n * factor + phase]);
  first.finish();
  others.finish();
  shape(shaped);
  const std::size_t high_block = kBlock * factor;
  for (std::size_t h = 0; h < shaped.size(); ++h) high_[high_block - 1 - h] = shaped[h];
  // The first of the new samples completes an output at exactly twice the half length.
  for (std::size_t n = 0; n < frames; ++n)
    down.add(down_.data(), high_.data() + (high_block - 1 - n * factor), &shaped[n]);
  down.finish();
  for (std::size_t n = 0; n < frames; ++n) out[n] = static_cast<float>(shaped[n]);
  const auto keep = [](std::vector<double>& values, std::size_t block, std::size_t passed) {
    std::copy_backward(values.begin() + static_cast<std::ptrdiff_t>(block - passed),
                       values.end() - static_cast<std::ptrdiff_t>(passed), values.end());
  };
  keep(in_, kBlock, frames);
  keep(high_, high_block, frames * factor);
}

void Tern::oversample_naively(std::span<const float> in, std::span<float> out) noexcept {
  const std::size_t factor = up_phases_.size(), frames = in.size();
  const std::span shaped = std::span(shaped_).first(frames * factor);
  for (std::size_t n = 0; n < frames; ++n) {
    const double x = in[n];
    for (std::size_t i = 1; i <= factor; ++i)
      shaped[n * factor + i - 1] =
          last_in_ + (x - last_in_) * static_cast<double>(i) / static_cast<double>(factor);
    last_in_ = x;
  }
  shape(shaped);
  for (std::size_t n = 0; n < frames; ++n) {
    double sum = 0;
    for (const double value : shaped.subspan(n * factor, factor)) sum += value;
    out[n] = static_cast<float>(sum / static_cast<double>(factor));
  }
}

void Tern::run_block(std::span<const float> in, std::span<float> out) noexcept {
  if (up_phases_.size() > 1) return settings_.naive ? oversample_naively(in, out) : oversample(in, out);
  const std::span shaped = std::span(shaped_).first(in.size());
  std::copy(in.begin(), in.end(), shaped.begin());
  shape(shaped);
  for (std::size_t n = 0; n < in.size(); ++n) out[n] = static_cast<float>(shaped[n]);
}

void Tern::run(const float* in, float* out, int frames) noexcept {
  const auto all = static_cast<std::size_t>(frames);
  for (std::size_t first = 0; first < all; first += kBlock) {
    const std::size_t count = std::min(kBlock, all - first);
    run_block({in + first, count}, {out + first, count});
  }
}

std::int64_t Tern::latency_frames() const noexcept {
  return settings_.oversampling == 1 || settings_.naive ? 0 : 2 * kHalfLength;
}

}  // namespace wavicon::stand_in
