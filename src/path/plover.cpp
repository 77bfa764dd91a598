// SPDX-License-Identifier: MIT
#include "path/plover.hpp"

#include <algorithm>
#include <cmath>

#include "wavicon/audio/decibels.hpp"

namespace wavicon::stand_in {
namespace {

constexpr double kWindowS = 0.001;
constexpr double kLeast = 1e-12;  // amplitude that counts as silence

}  // namespace

Plover::Plover(const PloverSettings& settings, double rate)
    : rate_(rate), window_(static_cast<std::size_t>(std::fmax(1, std::round(kWindowS * rate))), 0.0) {
  set(settings);
}

void Plover::set(const PloverSettings& settings) noexcept {
  settings_ = settings;
  const auto share = [&](double ms) { return -std::expm1(-1 / std::fmax(1e-9, 0.001 * ms * rate_)); };
  attack_ = share(settings.attack_ms);
  release_ = share(settings.release_ms);
  release2_ = settings.release2_ms > 0 ? share(settings.release2_ms) : release_;
}

double Plover::reduction_db(double level_db) const noexcept {
  const double over = level_db - settings_.threshold_dbfs, slope = 1 - 1 / settings_.ratio,
               half = settings_.knee_db / 2;
  if (over <= -half) return 0;
  if (over >= half) return slope * over;
  return slope * (over + half) * (over + half) / (2 * settings_.knee_db);
}

double Plover::peak_of(double magnitude) noexcept {
  window_[at_] = magnitude;
  ++highest_age_;
  if (magnitude >= highest_) {
    highest_ = magnitude;
    highest_age_ = 0;
  } else if (highest_age_ >= window_.size()) {  // it fell out: the next one, the latest if there are several
    highest_ = 0;
    for (std::size_t age = window_.size(); age-- > 0;)
      if (const double v = window_[(at_ + window_.size() - age) % window_.size()]; v >= highest_) {
        highest_ = v;
        highest_age_ = age;
      }
  }
  at_ = (at_ + 1) % window_.size();
  return highest_;
}

double Plover::mean_square_of(double square) noexcept {
  sum_ += square - window_[at_];
  window_[at_] = square;
  at_ = (at_ + 1) % window_.size();
  if (at_ == 0) {  // what rounding has gathered is dropped once a turn
    sum_ = 0;
    for (const double v : window_) sum_ += v;
  }
  return std::fmax(0, sum_) / static_cast<double>(window_.size());
}

void Plover::run(const float* in, float* out, int frames) noexcept {
  const double makeup = settings_.makeup_db;
  for (int n = 0; n < frames; ++n) {
    const double x = in[n];
    double reduction = 0;
    if (settings_.rms) {
      const double now = mean_square_of(x * x);
      mean_square_ += (now > mean_square_ ? attack_ : release_) * (now - mean_square_);
      mean_square2_ += (now > mean_square2_ ? attack_ : release2_) * (now - mean_square2_);
      const auto of = [&](double square) {
        return reduction_db(db_from_power_ratio(2 * std::fmax(square, kLeast * kLeast)));
      };
      reduction = settings_.release2_ms > 0 ? (of(mean_square_) + of(mean_square2_)) / 2 : of(mean_square_);
    } else {
      const double wanted = reduction_db(db_from_ratio(std::fmax(peak_of(std::fabs(x)), kLeast)));
      reduced_ += (wanted > reduced_ ? attack_ : release_) * (wanted - reduced_);
      reduced2_ += (wanted > reduced2_ ? attack_ : release2_) * (wanted - reduced2_);
      reduction = (reduced_ + reduced2_) / 2;
    }
    out[n] = static_cast<float>(x * ratio_from_db(makeup - reduction));
  }
}

}  // namespace wavicon::stand_in
