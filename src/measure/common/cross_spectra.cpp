// SPDX-License-Identifier: MIT
#include "measure/common/cross_spectra.hpp"

#include <algorithm>

#include "audio/wide.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kMostWindows = 800;  // spread over the whole: a share is then known to 0.1 %

// Powers, and conj(x)·y; pairs of doubles. Products are added up with their signs in them, as in
// transform.cpp.
WAVICON_WIDE void add_products(const double* __restrict x, const double* __restrict y, std::size_t count,
                               double* __restrict xx, double* __restrict yy, double* __restrict xy) {
  for (std::size_t k = 0; k < count; ++k) {
    const double x_re = x[2 * k], x_im = x[2 * k + 1], y_re = y[2 * k], y_im = y[2 * k + 1];
    xx[k] += x_re * x_re + x_im * x_im;
    yy[k] += y_re * y_re + y_im * y_im;
    xy[2 * k] += x_re * y_re + x_im * y_im;
    xy[2 * k + 1] += x_re * y_im + -x_im * y_re;
  }
}

}  // namespace

CrossSpectra::CrossSpectra(double rate, std::int64_t frames, double window_s, double beta)
    : rate_(rate),
      beta_(beta),
      length_(fast_transform_length(static_cast<std::size_t>(std::min<double>(
          std::max(64.0, window_s * rate), std::max<double>(16, static_cast<double>(frames) / 4))))),
      stride_(std::max(length_ / 2, static_cast<std::size_t>(frames) / kMostWindows)),
      window_(kaiser_window(length_, beta)),
      transform_(length_),
      xx_(length_ / 2 + 1, 0.0),
      yy_(xx_),
      xy_(xx_.size()),
      first_(xx_.size()) {}

CrossSpectra::CrossSpectra(double rate, Periods period)
    : rate_(rate),
      length_(period.frames),
      stride_(period.frames),
      window_(length_, 1.0),
      transform_(length_),
      xx_(length_ / 2 + 1, 0.0),
      yy_(xx_),
      xy_(xx_.size()),
      first_(xx_.size()) {}

void CrossSpectra::add(std::span<const double> x, std::span<const double> y) {
  const std::span<double> input = transform_.input();
  const auto transformed = [&](const double* samples) {
    for (std::size_t i = 0; i < length_; ++i) input[i] = window_[i] * samples[i];
    transform_.execute();
    return transform_.bins();
  };
  for (std::size_t at = 0; at + length_ <= x.size(); at += stride_) {
    const auto first = transformed(x.data() + at);
    std::copy(first.begin(), first.end(), first_.begin());
    const auto second = transformed(y.data() + at);
    add_products(reinterpret_cast<const double*>(first_.data()),
                 reinterpret_cast<const double*>(second.data()), first_.size(), xx_.data(), yy_.data(),
                 reinterpret_cast<double*>(xy_.data()));
    ++windows_;
  }
}

WelchPlan CrossSpectra::plan() const { return plan_of(window_, stride_, length_, beta_, rate_); }

PowerSpread CrossSpectra::spread() const {
  const auto windows = static_cast<std::size_t>(std::max<std::int64_t>(1, windows_));
  return {plan(), static_cast<std::int64_t>(length_ + (windows - 1) * stride_), window_};
}

double CrossSpectra::density_scale() const {
  double squares = 0;
  for (const double w : window_) squares += w * w;
  return windows_ > 0 ? 2 / (squares * rate_ * static_cast<double>(windows_)) : 0;
}

}  // namespace wavicon::measure_detail
