// SPDX-License-Identifier: MIT
#include "measure/common/line_spectrum.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kCurvePoints = 2000;  // twice what a picture is wide
constexpr double kNoiseReachBins = 90;      // on each side: wide enough for a median
constexpr double kMedianOverMean =
    std::numbers::ln2;                  // of an exponential distribution, as powers of noise bins have
constexpr int kNewtonSteps = 10;        // it converges in three to five; the rest is a safeguard
constexpr std::size_t kGroupBins = 32;  // of which the lowest mean counts as noise

}  // namespace

Windowing divide(std::size_t stretch_frames, std::size_t longest_window) {
  if (stretch_frames <= longest_window) return {stretch_frames, 1, stretch_frames};
  const std::size_t hop = longest_window / 2;
  return {longest_window, 1 + (stretch_frames - longest_window) / hop, hop};
}

LineSpectrum::LineSpectrum(std::span<const double> samples, double sample_rate_hz, const Windowing& windowing,
                           SpectralTools& tools)
    : samples_(samples), sample_rate_hz_(sample_rate_hz), windowing_(windowing), tools_(&tools) {
  const auto window = tools.windows.get(windowing.frames, kLineBeta);
  RealTransform& transform = tools.transforms.get(fast_transform_length(windowing.frames));
  const auto length = static_cast<double>(transform.length());
  hz_per_bin_ = sample_rate_hz / length;
  padding_ = length / static_cast<double>(windowing.frames);
  power_.assign(transform.length() / 2 + 1, 0.0);
  const auto input = transform.input();
  for (std::size_t w = 0; w < windowing.count; ++w) {
    const double* x = samples.data() + w * windowing.hop;
    for (std::size_t i = 0; i < windowing.frames; ++i) input[i] = window[i] * x[i];
    std::fill(input.begin() + static_cast<std::ptrdiff_t>(windowing.frames), input.end(), 0.0);
    transform.execute();
    const auto bins = transform.bins();
    for (std::size_t b = 0; b < power_.size(); ++b) power_[b] += std::norm(bins[b]);
    dc_ += bins[0].real();
  }
  const double sum = std::accumulate(window.begin(), window.end(), 0.0);
  const double squares = std::inner_product(window.begin(), window.end(), window.begin(), 0.0);
  const double scale = 4.0 / (length * squares * static_cast<double>(windowing.count));
  for (double& p : power_) p *= scale;
  power_.front() *= 0.5;  // the one-sided spectrum counts these two once
  power_.back() *= 0.5;
  for (std::size_t first = 0; first < power_.size(); first += kGroupBins)
    group_power_.push_back(std::accumulate(
        power_.begin() + static_cast<std::ptrdiff_t>(first),
        power_.begin() + static_cast<std::ptrdiff_t>(std::min(first + kGroupBins, power_.size())), 0.0));
  dc_ /= sum * static_cast<double>(windowing.count);
  line_height_ = length * squares / (sum * sum);
}

std::span<const double> LineSpectrum::windowed(std::size_t index, std::span<const double> window) const {
  std::vector<double>& result = tools_->weighted;
  result.resize(windowing_.frames);
  const double* x = samples_.data() + index * windowing_.hop;
  for (std::size_t i = 0; i < result.size(); ++i) result[i] = window[i] * x[i];
  return result;
}

double LineSpectrum::peak_near_hz(double rough_hz, double reach_hz) const {
  const auto last = static_cast<double>(power_.size() - 2);
  const auto from = static_cast<std::size_t>(std::clamp((rough_hz - reach_hz) / hz_per_bin_, 1.0, last));
  const auto to = static_cast<std::size_t>(std::clamp((rough_hz + reach_hz) / hz_per_bin_, 1.0, last));
  std::size_t top = from;
  for (std::size_t b = from; b <= to; ++b)
    if (power_[b] > power_[top]) top = b;
  const double shift = crest_shift(power_[top - 1], power_[top], power_[top + 1]);
  return (static_cast<double>(top) + shift) * hz_per_bin_;
}

double LineSpectrum::refine_hz(double rough_hz, double reach_hz) {
  const double start_hz = peak_near_hz(rough_hz, reach_hz);
  window_hz_.assign(windowing_.count, start_hz);
  for (std::size_t w = 0; w < windowing_.count; ++w) {
    const auto x = windowed(w, tools_->windows.get(windowing_.frames, kLineBeta));
    double hz = start_hz;
    for (int i = 0; i < kNewtonSteps; ++i) {
      // |S|² over the angle per frame: its derivatives follow from dS = -i·first, d²S = -second.
      const ToneSums s = tone_sums(x, phase_step(hz, sample_rate_hz_));
      const double slope = 2.0 * std::imag(std::conj(s.zeroth) * s.first);
      const double curvature = 2.0 * (std::norm(s.first) - std::real(std::conj(s.zeroth) * s.second));
      if (!(curvature < 0)) break;
      const double move_hz = -slope / curvature * sample_rate_hz_ / (2.0 * std::numbers::pi);
      if (std::abs(hz + move_hz - start_hz) > reach_hz + 3 * hz_per_bin_) break;
      hz += move_hz;
      if (std::abs(move_hz) < 1e-10 * hz_per_bin_) break;
    }
    window_hz_[w] = hz;
  }
  return std::accumulate(window_hz_.begin(), window_hz_.end(), 0.0) / static_cast<double>(window_hz_.size());
}

double LineSpectrum::lobe_power(double at_hz) const {
  const double half = kLobeHalfBins * padding_, centre = at_hz / hz_per_bin_;
  const auto from = static_cast<std::size_t>(std::max(0.0, std::ceil(centre - half)));
  const auto to = std::min(power_.size() - 1, static_cast<std::size_t>(std::max(0.0, centre + half)));
  double sum = 0;
  for (std::size_t b = from; b <= to; ++b) sum += power_[b];
  return sum;
}

std::size_t LineSpectrum::lobe_bins(double at_hz) const {
  const double half = kLobeHalfBins * padding_, centre = at_hz / hz_per_bin_;
  const double from = std::max(0.0, std::ceil(centre - half));
  const double to = std::min(static_cast<double>(power_.size() - 1), std::floor(centre + half));
  return to < from ? 0 : static_cast<std::size_t>(to - from) + 1;
}

double LineSpectrum::noise_power_per_bin(double at_hz, std::span<const double> lines_hz) const {
  const double bin = hz_per_bin_ * padding_;
  std::vector<double> found;
  // A lobe's last half bin holds nothing; it is opened up where lobes stand so close that nothing else is
  // left between them.
  for (const double half : {kLobeHalfBins, 12.0}) {
    found.clear();
    const double low_hz = std::max(half * bin, at_hz - kNoiseReachBins * bin);
    const double high_hz = std::min(sample_rate_hz_ / 2, at_hz + kNoiseReachBins * bin);
    auto line = std::lower_bound(lines_hz.begin(), lines_hz.end(), low_hz - half * bin);
    const auto end = static_cast<std::size_t>(high_hz / hz_per_bin_);
    for (auto b = static_cast<std::size_t>(std::ceil(low_hz / hz_per_bin_)); b <= end && b < power_.size();
         ++b) {
      const double hz = static_cast<double>(b) * hz_per_bin_;
      while (line != lines_hz.end() && *line + half * bin < hz) ++line;
      const bool covered =
          (line != lines_hz.end() && *line - half * bin <= hz) || std::abs(hz - at_hz) < half * bin;
      if (!covered) found.push_back(power_[b]);
    }
    if (found.size() >= 3) break;
  }
  if (found.empty()) return 0;
  const auto middle = found.begin() + static_cast<std::ptrdiff_t>(found.size() / 2);
  std::nth_element(found.begin(), middle, found.end());
  // Averaged windows gather round their mean; the median then lies closer to it: ln 2 for one, about 1 -
  // 1/(3n) for n.
  const double ratio =
      windowing_.count == 1 ? kMedianOverMean : 1.0 - 1.0 / (3.0 * static_cast<double>(windowing_.count));
  return *middle / ratio;
}

std::vector<double> LineSpectrum::power_without(std::span<const double> without_hz,
                                                std::span<const double> lines_hz) const {
  const double half_hz = lobe_half_hz();
  std::vector<double> noise;
  for (const double hz : without_hz) noise.push_back(noise_power_per_bin(hz, lines_hz));
  std::vector<double> power = power_;
  std::size_t next = 0;
  for (std::size_t b = 0; b < power.size(); ++b) {
    const double hz = static_cast<double>(b) * hz_per_bin_;
    while (next < without_hz.size() && without_hz[next] + half_hz < hz) ++next;
    if (next == without_hz.size()) break;
    if (hz >= without_hz[next] - half_hz) power[b] = noise[next];
  }
  return power;
}

double LineSpectrum::band_power(double from_hz, double to_hz, std::span<const double> without_hz,
                                std::span<const double> lines_hz) const {
  return measure_detail::band_power(power_without(without_hz, lines_hz), hz_per_bin_, from_hz, to_hz,
                                    [](double) { return 1.0; }) /
         hz_per_bin_;
}

double LineSpectrum::frequency_sigma_hz(double amplitude, double noise_per_bin) const {
  const auto window = tools_->windows.get(windowing_.frames, kLineBeta);
  const double middle = 0.5 * static_cast<double>(window.size() - 1);
  double moment = 0, noise = 0;
  for (std::size_t n = 0; n < window.size(); ++n) {
    const double away = static_cast<double>(n) - middle;
    moment += window[n] * away * away;
    noise += window[n] * window[n] * away * away;
  }
  // Of the samples: what reads so much per bin.
  const double variance = noise_per_bin * sample_rate_hz_ / hz_per_bin_ / 4;
  return std::sqrt(2 * variance * noise / static_cast<double>(windowing_.count)) / (amplitude * moment) *
         sample_rate_hz_ / (2 * std::numbers::pi);
}

PowerSpread LineSpectrum::spread() const {
  const auto window = tools_->windows.get(windowing_.frames, kLineBeta);
  const auto length = static_cast<std::size_t>(std::llround(sample_rate_hz_ / hz_per_bin_));
  return {plan_of(window, windowing_.hop, length, kLineBeta, sample_rate_hz_),
          static_cast<std::int64_t>(windowing_.frames + (windowing_.count - 1) * windowing_.hop), window};
}

void LineSpectrum::draw(std::vector<double>& hz, std::vector<double>& amplitude) const {
  const double lowest_hz = std::min(10.0, sample_rate_hz_ / 100), ratio = sample_rate_hz_ / 2 / lowest_hz;
  auto first = static_cast<std::size_t>(std::max(1.0, std::ceil(lowest_hz / hz_per_bin_)));
  for (std::size_t point = 1; point <= kCurvePoints && first < power_.size(); ++point) {
    const double end_hz =
        lowest_hz * std::pow(ratio, static_cast<double>(point) / static_cast<double>(kCurvePoints));
    const auto end = std::min(power_.size(), static_cast<std::size_t>(end_hz / hz_per_bin_) + 1);
    if (end <= first) continue;
    const auto top = std::max_element(power_.begin() + static_cast<std::ptrdiff_t>(first),
                                      power_.begin() + static_cast<std::ptrdiff_t>(end));
    hz.push_back(static_cast<double>(top - power_.begin()) * hz_per_bin_);
    amplitude.push_back(std::sqrt(*top * line_height_));
    first = end;
  }
}

double LineSpectrum::skirt_load(double at_hz) const {
  const double centre = at_hz / hz_per_bin_;
  const double half = (kLobeHalfBins + 0.5) * padding_;
  double sum = 0;
  for (std::size_t group = 0; group < group_power_.size(); ++group) {
    const std::size_t first = group * kGroupBins, end = std::min(first + kGroupBins, power_.size());
    const double middle = 0.5 * static_cast<double>(first + end - 1) - centre;
    if (std::abs(middle) > half + 4 * kGroupBins) {
      sum += group_power_[group] / (middle * middle);
      continue;
    }
    for (std::size_t b = first; b < end; ++b) {
      const double distance = static_cast<double>(b) - centre;
      if (std::abs(distance) > half) sum += power_[b] / (distance * distance);
    }
  }
  return sum * padding_ * padding_;
}

std::vector<double> LineSpectrum::line_powers(std::span<const int> orders, double beta) const {
  const auto window = tools_->windows.get(windowing_.frames, beta);
  const double sum = std::accumulate(window.begin(), window.end(), 0.0);
  std::vector<double> powers(orders.size(), 0.0);
  for (std::size_t w = 0; w < windowing_.count; ++w) {
    const auto x = windowed(w, window);
    const Phase step = phase_step(window_hz_[w], sample_rate_hz_);
    for (std::size_t i = 0; i < orders.size(); ++i)
      powers[i] += std::norm(tone_sum(x, step * static_cast<Phase>(orders[i]))) * 4.0 /
                   (sum * sum * static_cast<double>(windowing_.count));
  }
  return powers;
}

std::vector<double> LineSpectrum::powers_at(std::span<const double> at_hz, double beta) const {
  const auto window = tools_->windows.get(windowing_.frames, beta);
  const double sum = std::accumulate(window.begin(), window.end(), 0.0);
  std::vector<double> powers(at_hz.size(), 0.0);
  for (std::size_t w = 0; w < windowing_.count; ++w) {
    const auto x = windowed(w, window);
    for (std::size_t i = 0; i < at_hz.size(); ++i)
      powers[i] += std::norm(tone_sum(x, phase_step(at_hz[i], sample_rate_hz_))) * 4.0 /
                   (sum * sum * static_cast<double>(windowing_.count));
  }
  return powers;
}

std::vector<double> LineSpectrum::phases_deg(std::span<const int> orders, double beta) const {
  const auto window = tools_->windows.get(windowing_.frames, beta);
  std::vector<std::complex<double>> sums(orders.size());
  for (std::size_t w = 0; w < windowing_.count; ++w) {
    const auto x = windowed(w, window);
    const Phase step = phase_step(window_hz_[w], sample_rate_hz_);
    const double tone = std::arg(tone_sum(x, step));
    for (std::size_t i = 0; i < orders.size(); ++i)
      sums[i] += std::polar(1.0, -orders[i] * tone) * tone_sum(x, step * static_cast<Phase>(orders[i]));
  }
  std::vector<double> phases;
  for (std::size_t i = 0; i < orders.size(); ++i)
    phases.push_back(sine_phase_deg(std::arg(sums[i]), orders[i]));
  return phases;
}

double LineSpectrum::line_noise(double beta) const {
  const auto window = tools_->windows.get(windowing_.frames, beta);
  const double sum = std::accumulate(window.begin(), window.end(), 0.0);
  const double squares = std::inner_product(window.begin(), window.end(), window.begin(), 0.0);
  return padding_ * static_cast<double>(windowing_.frames) * squares / (sum * sum);
}

}  // namespace wavicon::measure_detail
