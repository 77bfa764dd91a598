// SPDX-License-Identifier: MIT
#include "measure/common/mains.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kBeta = 14;  // of the Kaiser window: side lobes at -106 dB
constexpr int kLines = 10;    // of mains: above the tenth hum is below the noise
constexpr double kStraysHz = 0.2, kGridHz = 0.005;
constexpr double kStandsOut = 5.623;  // 15 dB
constexpr std::size_t kPadding = 4;   // times its length: the crest lies near a bin
constexpr double kWindowed = 1.7;     // of a frequency, by the window; found by repetition
constexpr int kGoldenSteps = 13;      // to a five-hundredth of where the search begins

class Comb {
 public:
  Comb(std::span<const double> samples, double rate) : rate_(rate), x_(samples.begin(), samples.end()) {
    const auto window = kaiser_window(x_.size(), kBeta);
    double mean = 0, sum = 0;
    for (const double v : x_) mean += v / static_cast<double>(x_.size());
    for (std::size_t n = 0; n < x_.size(); ++n) {
      x_[n] = (x_[n] - mean) * window[n];
      sum += window[n] / 2;
    }
    scale_ = 1 / sum;
    RealTransform transform(fast_transform_length(kPadding * x_.size()));
    transform.execute(x_);
    for (const auto& bin : transform.bins()) amplitudes_.push_back(scale_ * std::abs(bin));
    bin_hz_ = rate / static_cast<double>(transform.length());
    half_lobe_ = kaiser_half_width_bins(kBeta) * static_cast<double>(transform.length()) /
                 static_cast<double>(x_.size());
  }

  // Power of the comb's lines that lie clear of half the rate.
  [[nodiscard]] double power(double base_hz) const {
    double sum = 0;
    for (int k = 1; k <= lines(base_hz); ++k) sum += std::pow(near(k * base_hz), 2);
    return sum;
  }
  [[nodiscard]] double exact_power(double base_hz) const {
    double sum = 0;
    for (int k = 1; k <= lines(base_hz); ++k) sum += std::pow(exact(k * base_hz), 2);
    return sum;
  }
  [[nodiscard]] double exact(double hz) const {
    return scale_ * std::abs(tone_sum(x_, phase_step(hz, rate_)));
  }
  [[nodiscard]] int lines(double base_hz) const {
    return std::min(kLines, static_cast<int>(0.2 * rate_ / base_hz));
  }

  // What noise reads beside a line: the RMS over places on both sides.
  [[nodiscard]] double around(double hz) const {
    std::vector<double> beside;
    const double centre = hz / bin_hz_;
    for (double away = 1.5 * half_lobe_; away < 5 * half_lobe_; ++away)
      for (const double place : {centre - away, centre + away})
        if (place > half_lobe_ && place < static_cast<double>(amplitudes_.size()))
          beside.push_back(amplitudes_[static_cast<std::size_t>(place)]);
    if (beside.empty()) return 0;
    const auto middle = beside.begin() + static_cast<std::ptrdiff_t>(beside.size() / 2);
    std::nth_element(beside.begin(), middle, beside.end());
    return *middle / 0.8326;  // median of a Rayleigh distribution over its RMS: sqrt(ln 2)
  }

 private:
  [[nodiscard]] double near(double hz) const {
    return amplitudes_[std::min(amplitudes_.size() - 1, static_cast<std::size_t>(std::lround(hz / bin_hz_)))];
  }

  double rate_;
  std::vector<double> x_;
  std::vector<double> amplitudes_;
  double scale_ = 0;
  double bin_hz_ = 0;
  double half_lobe_ = 0;
};

}  // namespace

MainsComb find_mains(std::span<const double> samples, double rate) {
  const Comb comb(samples, rate);
  double best_hz = 50, best = -1;
  for (const double nominal : {50.0, 60.0})
    for (double hz = nominal - kStraysHz; hz <= nominal + kStraysHz + 1e-9; hz += kGridHz)
      if (const double power = comb.power(hz); power > best) {
        best = power;
        best_hz = hz;
      }
  // Golden section within the width of a line's crest.
  const double reach = std::max(2 * kGridHz, 0.5 * rate / static_cast<double>(samples.size()) / 2);
  double low = best_hz - reach, high = best_hz + reach;
  constexpr double kGolden = 0.6180339887498949;
  double a = high - kGolden * (high - low), b = low + kGolden * (high - low);
  double at_a = comb.exact_power(a), at_b = comb.exact_power(b);
  for (int i = 0; i < kGoldenSteps; ++i) {
    if (at_a > at_b) {
      high = b;
      b = a;
      at_b = at_a;
      a = high - kGolden * (high - low);
      at_a = comb.exact_power(a);
    } else {
      low = a;
      a = b;
      at_a = at_b;
      b = low + kGolden * (high - low);
      at_b = comb.exact_power(b);
    }
  }
  MainsComb result;
  result.base_hz = (a + b) / 2;
  for (int k = 1; k <= comb.lines(result.base_hz); ++k) {
    const MainsLine line{k, k * result.base_hz, comb.exact(k * result.base_hz),
                         comb.around(k * result.base_hz)};
    if (line.peak > kStandsOut * line.around && line.peak > 0) result.lines.push_back(line);
    if (k <= 3) result.bound = std::max(result.bound, kStandsOut * line.around);
  }
  // A line's phase is off by around/(√2·peak), its frequency by √12/2πT of that, the base by a k-th.
  double information = 0;
  const double seconds = static_cast<double>(samples.size()) / rate;
  for (const MainsLine& line : result.lines)
    information += std::pow(line.order * line.peak / std::max(1e-15, line.around), 2);
  if (information > 0)
    result.uncertainty_hz =
        std::hypot(kWindowed * 2 * std::sqrt(6.0) / (2 * std::numbers::pi * seconds * std::sqrt(information)),
                   high - low);
  return result;
}

}  // namespace wavicon::measure_detail
