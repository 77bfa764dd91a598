// SPDX-License-Identifier: MIT
#include "noise_kind.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

#include "segment_delay.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::size_t kFrame = 2048;  // at 48 kHz; longer above
constexpr std::size_t kLeastFrames = 8;
constexpr std::size_t kMostSamples = 1 << 22;
constexpr int kBands = 13;
constexpr double kLowestHz = 60;
constexpr double kSteadyLeast = 0.4, kSteadyMost = 1.35, kFewFrames = 3.5;
constexpr double kTrend = 4.5;  // standard deviations
constexpr double kKurtosis = 0.4, kFewSamples = 8;
constexpr double kLogLow = 1.0, kLogHigh = 2.5;
constexpr double kEdge = 0.1;    // of the density in the middle: the end of the band
constexpr double kFlatDb = 0.4;  // per octave, off white or off pink
constexpr double kPinkDb = -3.01;
constexpr double kLikeItself = 0.97;
constexpr double kShortestPeriodS = 0.03;

struct Band {
  std::size_t first = 0, end = 0;
};

// The lag at which the stretch is the same again; 0 when there is none.
std::int64_t period_of(std::span<const double> x, double rate) {
  const std::size_t length = std::min<std::size_t>(x.size(), static_cast<std::size_t>(24 * rate));
  RealTransform transform(fast_transform_length(2 * length));
  auto bins = transform.bins_of(x.first(length));
  for (auto& bin : bins) bin = std::norm(bin);
  const auto lags = transform.invert(bins);
  std::vector<double> sums(length + 1, 0.0);
  for (std::size_t n = 0; n < length; ++n) sums[n + 1] = sums[n] + x[n] * x[n];
  for (auto lag = static_cast<std::size_t>(kShortestPeriodS * rate); lag < length / 2; ++lag) {
    const double early = sums[length - lag], late = sums[length] - sums[lag];
    if (early > 0 && late > 0 && lags[lag] > kLikeItself * std::sqrt(early * late) &&
        lags[lag] >= lags[lag + 1] && lags[lag] >= lags[lag - 1])
      return static_cast<std::int64_t>(lag);
  }
  return 0;
}

double kurtosis_of(std::span<const double> x) {
  double second = 0, fourth = 0;
  for (const double v : x) {
    second += v * v;
    fourth += v * v * v * v;
  }
  return second > 0 ? fourth * static_cast<double>(x.size()) / (second * second) : 0;
}

}  // namespace

std::optional<NoiseKind> noise_kind(std::span<const double> all, double rate) {
  const auto x = all.first(std::min(all.size(), kMostSamples));
  std::size_t frame = kFrame;
  while (static_cast<double>(frame) < 0.6 * static_cast<double>(kFrame) * rate / 48000) frame *= 2;
  if (x.size() < kLeastFrames * frame) return std::nullopt;
  RealTransform transform(frame);
  const std::size_t count = x.size() / frame;  // side by side: each is independent of the others
  const double bin_hz = rate / static_cast<double>(frame);
  const auto window = hann_window(frame);
  std::vector<double> density(frame / 2 + 1, 0.0);
  std::vector<std::vector<double>> powers;
  double squares = 0;
  for (const double v : x) squares += v * v;
  for (std::size_t i = 0; i < count; ++i) {
    const auto in = transform.input();
    for (std::size_t n = 0; n < frame; ++n) in[n] = x[i * frame + n] * window[n];
    transform.execute();
    std::vector<double> power(density.size());
    for (std::size_t k = 0; k < power.size(); ++k) {
      power[k] = std::norm(transform.bins()[k]);
      density[k] += power[k] / static_cast<double>(count);
    }
    powers.push_back(std::move(power));
  }
  // Where it is: from the densest half octave outwards.
  const auto last = static_cast<std::size_t>(0.49 * static_cast<double>(frame));
  const auto mean_between = [&](double from, double to) {
    const auto a = std::clamp<std::size_t>(static_cast<std::size_t>(from / bin_hz), 1, last - 1),
               b = std::clamp<std::size_t>(static_cast<std::size_t>(to / bin_hz), a + 1, last);
    double sum = 0;
    for (std::size_t k = a; k < b; ++k) sum += density[k];
    return sum / static_cast<double>(b - a);
  };
  double dense = 0;
  std::vector<double> centres;
  for (double hz = kLowestHz; hz < 0.47 * rate; hz *= std::pow(2, 1.0 / 6)) {
    centres.push_back(hz);
    dense = std::max(dense, hz * mean_between(hz / 1.12, hz * 1.12));
  }
  NoiseKind found;
  found.rms = std::sqrt(squares / static_cast<double>(x.size()));
  std::vector<std::pair<double, double>> points;  // octaves, dB
  for (const double hz : centres) {
    const double here = mean_between(hz / 1.12, hz * 1.12);
    if (hz * here < 1e-4 * dense) continue;
    points.emplace_back(std::log2(hz), db_from_power_ratio(here));
  }
  if (points.size() < 4) return std::nullopt;
  // The tilt from the middle of what there is, then the ends where it falls off that line.
  std::vector<double> slopes;
  for (std::size_t i = points.size() / 6; i + points.size() / 3 < points.size(); ++i) {
    const auto& [p, a] = points[i];
    const auto& [q, b] = points[i + points.size() / 3];
    if (q > p) slopes.push_back((b - a) / (q - p));
  }
  if (slopes.empty()) return std::nullopt;
  std::nth_element(slopes.begin(), slopes.begin() + static_cast<std::ptrdiff_t>(slopes.size() / 2),
                   slopes.end());
  found.tilt_db_per_octave = slopes[slopes.size() / 2];
  const auto& [centre, level] = points[points.size() / 2];
  const auto off_line = [&, &centre = centre, &level = level](double hz, double power) {
    return db_from_power_ratio(power) - level - found.tilt_db_per_octave * (std::log2(hz) - centre);
  };
  found.from_hz = 0;
  found.to_hz = rate / 2;
  for (double hz = std::exp2(centre); hz > 25; hz /= std::pow(2, 1.0 / 12))
    if (off_line(hz, mean_between(hz / 1.03, hz * 1.03) + 1e-300) < db_from_power_ratio(kEdge)) {
      found.from_hz = hz;
      break;
    }
  for (double hz = std::exp2(centre); hz < 0.49 * rate; hz *= std::pow(2, 1.0 / 12))
    if (off_line(hz, mean_between(hz / 1.03, hz * 1.03) + 1e-300) < db_from_power_ratio(kEdge)) {
      found.to_hz = hz;
      break;
    }
  if (std::abs(found.tilt_db_per_octave) < kFlatDb) found.colour = NoiseKind::Colour::white;
  if (std::abs(found.tilt_db_per_octave - kPinkDb) < kFlatDb) found.colour = NoiseKind::Colour::pink;
  const double kurtosis = kurtosis_of(x);
  found.period_frames = period_of(x, rate);
  if (found.period_frames > 0) {
    // One period by itself has to be noise: a loop of music is none.
    if (std::abs(kurtosis - 3) > 1) return std::nullopt;
  } else if (std::abs(kurtosis - 3) > kKurtosis + kFewSamples / std::sqrt(static_cast<double>(count))) {
    return std::nullopt;
  }
  const double low = std::max(found.from_hz, kLowestHz), high = std::min(found.to_hz, 0.47 * rate);
  if (!(high > 1.1 * low)) return std::nullopt;
  std::vector<double> steady;
  double log_sum = 0, log_squares = 0, logs = 0;
  for (int b = 0; b < kBands; ++b) {
    const double from = low * std::pow(high / low, static_cast<double>(b) / kBands),
                 to = low * std::pow(high / low, static_cast<double>(b + 1) / kBands);
    const auto first = static_cast<std::size_t>(std::ceil(from / bin_hz)),
               end = std::min(last, static_cast<std::size_t>(to / bin_hz) + 1);
    if (first + 2 > end) continue;
    double mean = 0, square = 0, weighted = 0;
    for (std::size_t i = 0; i < count; ++i) {
      double p = 0;
      for (std::size_t k = first; k < end; ++k) p += powers[i][k];
      mean += p / static_cast<double>(count);
      square += p * p / static_cast<double>(count);
      weighted += p * (static_cast<double>(i) - 0.5 * static_cast<double>(count - 1));
      for (std::size_t k = first; k < end; k += 3) {  // bins apart, so that the window does not tie them
        const double ratio = std::log(powers[i][k] / (density[k] + 1e-300) + 1e-300);
        log_sum += ratio;
        log_squares += ratio * ratio;
        logs += 1;
      }
    }
    // A Hann window leaves 2/3 of the bins' freedom; a band that is tilted has less.
    const double freedom = std::max(1.0, static_cast<double>(end - first) / 1.5);
    steady.push_back((square - mean * mean) / (mean * mean) * freedom);
    const double n = static_cast<double>(count),
                 spread = std::sqrt(std::max(1e-300, mean * mean / freedom * n * (n * n - 1) / 12));
    if (found.period_frames == 0 && std::abs(weighted) / spread > kTrend) return std::nullopt;
  }
  if (steady.size() < 3) return std::nullopt;
  if (found.period_frames > 0) return found;
  std::nth_element(steady.begin(), steady.begin() + static_cast<std::ptrdiff_t>(steady.size() / 2),
                   steady.end());
  const double middle = steady[steady.size() / 2];
  if (middle < kSteadyLeast ||
      middle > kSteadyMost + kFewFrames * std::sqrt(2 / static_cast<double>(count - 1)))
    return std::nullopt;
  const double variance = log_squares / logs - (log_sum / logs) * (log_sum / logs);
  if (variance < kLogLow || variance > kLogHigh) return std::nullopt;
  return found;
}

}  // namespace wavicon::intake_detail
