// SPDX-License-Identifier: MIT
#include "measure/common/cross_spectra.hpp"

#include <algorithm>

#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kMostWindows = 800;  // spread over the whole: a share is then known to 0.1 %

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
  for (std::size_t at = 0; at + length_ <= x.size(); at += stride_) {
    for (std::size_t i = 0; i < length_; ++i) transform_.input()[i] = window_[i] * x[at + i];
    transform_.execute();
    std::copy(transform_.bins().begin(), transform_.bins().end(), first_.begin());
    for (std::size_t i = 0; i < length_; ++i) transform_.input()[i] = window_[i] * y[at + i];
    transform_.execute();
    for (std::size_t k = 0; k < first_.size(); ++k) {
      const auto second = transform_.bins()[k];
      xx_[k] += std::norm(first_[k]);
      yy_[k] += std::norm(second);
      xy_[k] += std::conj(first_[k]) * second;
    }
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
