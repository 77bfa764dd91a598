// SPDX-License-Identifier: MIT
#include "path/tern.hpp"

#include <cmath>
#include <numbers>

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

// Fixed order of additions in four lanes: the same bits from every compiler.
double dot(const double* a, const double* b, std::size_t length) noexcept {
  double lane[4] = {0, 0, 0, 0};
  std::size_t i = 0;
  for (; i + 4 <= length; i += 4)
    for (std::size_t k = 0; k < 4; ++k) lane[k] += a[i + k] * b[i + k];
  for (; i < length; ++i) lane[0] += a[i] * b[i];
  return (lane[0] + lane[1]) + (lane[2] + lane[3]);
}

// Puts a value before all others in a history that is held twice.
void push(std::vector<double>& history, std::size_t& at, double value) noexcept {
  const std::size_t half = history.size() / 2;
  at = at == 0 ? half - 1 : at - 1;
  history[at] = history[at + half] = value;
}

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
  in_history_.assign(2 * (2 * kHalfLength + 1), 0.0);
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
  high_history_.assign(2 * length, 0.0);
  in_at_ = high_at_ = 0;
}

double Tern::shape(double x) const noexcept { return (arctangent(gain_ * x + bias_) - bias_out_) * scale_; }

double Tern::oversampled(double x) noexcept {
  push(in_history_, in_at_, x);
  double out = 0;
  for (std::size_t phase = 0; phase < up_phases_.size(); ++phase) {
    push(high_history_, high_at_,
         shape(dot(up_phases_[phase].data(), in_history_.data() + in_at_, up_phases_[phase].size())));
    // The first of the new samples completes an output at exactly twice the half length.
    if (phase == 0) out = dot(down_.data(), high_history_.data() + high_at_, down_.size());
  }
  return out;
}

double Tern::oversampled_naively(double x) noexcept {
  double sum = 0;
  const int factor = settings_.oversampling;
  for (int i = 1; i <= factor; ++i) sum += shape(last_in_ + (x - last_in_) * i / factor);
  last_in_ = x;
  return sum / factor;
}

void Tern::run(const float* in, float* out, int frames) noexcept {
  if (settings_.oversampling == 1)
    for (int n = 0; n < frames; ++n) out[n] = static_cast<float>(shape(in[n]));
  else if (settings_.naive)
    for (int n = 0; n < frames; ++n) out[n] = static_cast<float>(oversampled_naively(in[n]));
  else
    for (int n = 0; n < frames; ++n) out[n] = static_cast<float>(oversampled(in[n]));
}

std::int64_t Tern::latency_frames() const noexcept {
  return settings_.oversampling == 1 || settings_.naive ? 0 : 2 * kHalfLength;
}

}  // namespace wavicon::stand_in
