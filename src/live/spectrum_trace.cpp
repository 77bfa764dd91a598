// SPDX-License-Identifier: MIT
#include "wavicon/live/spectrum_trace.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon {
namespace {

constexpr double kBeta = 16;           // skirts below -120 dB, 5 bins to each side
constexpr double kLeastPower = 1e-24;  // -240 dBFS
constexpr double kStandsOutDb = 12;    // over what is around it
constexpr int kMostOrder = 20;
constexpr std::size_t kMostLines = 12;
constexpr std::ptrdiff_t kLobeBins = 6, kAroundBins = 24;

// Where an order of a tone is seen: what is above half the rate is folded back.
double seen_at(double hz, double rate) {
  const double rest = std::fmod(hz, rate);
  return rest > rate / 2 ? rate - rest : rest;
}

}  // namespace

SpectrumTrace::SpectrumTrace(std::size_t length, double sample_rate_hz)
    : sample_rate_hz_(sample_rate_hz), transform_(length), window_(kaiser_window(length, kBeta)) {
  const double sum = std::accumulate(window_.begin(), window_.end(), 0.0);
  scale_ = 4 / (sum * sum);  // of a bin's squared magnitude: a sine reads its peak
}

void SpectrumTrace::take(std::span<const double> samples, double passed_s, double averaging_s) {
  const std::span<double> input = transform_.input();
  for (std::size_t n = 0; n < input.size(); ++n) input[n] = samples[n] * window_[n];
  transform_.execute();
  const auto bins = transform_.bins();
  const bool first = power_.empty();
  if (first) {
    power_.assign(bins.size(), 0);
    level_dbfs_.assign(bins.size(), 0);
    highest_dbfs_.assign(bins.size(), db_from_power_ratio(kLeastPower));
  }
  const double share = first || averaging_s <= 0 ? 1 : 1 - std::exp(-passed_s / averaging_s);
  for (std::size_t k = 0; k < bins.size(); ++k) {
    power_[k] += share * (std::norm(bins[k]) * scale_ - power_[k]);
    level_dbfs_[k] = db_from_power_ratio(std::max(kLeastPower, power_[k]));
    highest_dbfs_[k] = std::max(highest_dbfs_[k], level_dbfs_[k]);
  }
}

void SpectrumTrace::clear() {
  power_.clear();
  level_dbfs_.clear();
  highest_dbfs_.clear();
}

// The highest bin near a place, when it is a line.
bool SpectrumTrace::stands_out(double hz, NamedLine& line) const {
  const auto count = static_cast<std::ptrdiff_t>(level_dbfs_.size());
  const auto middle = static_cast<std::ptrdiff_t>(std::lround(hz / bin_hz()));
  if (middle < kLobeBins || middle >= count - 1) return false;
  const auto level = [&](std::ptrdiff_t k) { return level_dbfs_[static_cast<std::size_t>(k)]; };
  std::ptrdiff_t best = middle;
  for (std::ptrdiff_t k = middle - 1; k <= middle + 1; ++k)
    if (level(k) > level(best)) best = k;
  std::vector<double> around;
  for (const std::ptrdiff_t side : {-1, 1})
    for (std::ptrdiff_t d = kLobeBins; d < kAroundBins; ++d)
      if (const std::ptrdiff_t k = best + side * d; k > 0 && k < count) around.push_back(level(k));
  if (around.empty()) return false;
  std::nth_element(around.begin(), around.begin() + static_cast<std::ptrdiff_t>(around.size() / 2),
                   around.end());
  if (level(best) < around[around.size() / 2] + kStandsOutDb) return false;
  // Between the bins: the vertex of a parabola through three levels.
  double shift = 0;
  if (best + 1 < count) {
    const double left = level(best - 1), right = level(best + 1), bend = left - 2 * level(best) + right;
    if (bend < 0) shift = std::clamp(0.5 * (left - right) / bend, -0.5, 0.5);
    line.level_dbfs = level(best) - 0.25 * (left - right) * shift;
  }
  line.frequency_hz = (static_cast<double>(best) + shift) * bin_hz();
  return true;
}

std::vector<NamedLine> SpectrumTrace::lines() const {
  std::vector<NamedLine> found;
  if (level_dbfs_.size() < static_cast<std::size_t>(2 * kAroundBins)) return found;
  const auto highest = std::max_element(level_dbfs_.begin() + kLobeBins, level_dbfs_.end());
  NamedLine tone;
  if (!stands_out(static_cast<double>(highest - level_dbfs_.begin()) * bin_hz(), tone)) return found;
  tone.name = "tone";
  const auto taken = [&](double hz) {
    return std::any_of(found.begin(), found.end(), [&](const NamedLine& one) {
      return std::abs(one.frequency_hz - hz) < static_cast<double>(kLobeBins) * bin_hz();
    });
  };
  found.push_back(tone);
  const auto add = [&](double hz, std::string name) {
    NamedLine line;
    if (found.size() < 2 * kMostLines && !taken(hz) && stands_out(hz, line) && !taken(line.frequency_hz)) {
      line.name = std::move(name);
      found.push_back(line);
    }
  };
  for (int order = 2; order <= kMostOrder; ++order) {
    const double hz = order * tone.frequency_hz;
    add(seen_at(hz, sample_rate_hz_), fmt::format("H{}{}", order, hz > sample_rate_hz_ / 2 ? " folded" : ""));
  }
  for (const double mains : {50.0, 60.0})
    for (int order = 1; order <= 4; ++order) add(order * mains, fmt::format("{:g} Hz hum", order * mains));
  std::stable_sort(found.begin() + 1, found.end(),
                   [](const NamedLine& a, const NamedLine& b) { return a.level_dbfs > b.level_dbfs; });
  if (found.size() > kMostLines) found.resize(kMostLines);
  return found;
}

}  // namespace wavicon
