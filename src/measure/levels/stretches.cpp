// SPDX-License-Identifier: MIT
#include "measure/levels/stretches.hpp"

#include <algorithm>
#include <cmath>

#include "wavicon/audio/student.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kLeast = 16;  // parts
constexpr double kStill = 2;        // 3 dB: of the mean power, either way
constexpr double kOfHighest = 1.9;

}  // namespace

void Stretches::reserve() {
  for (auto& parts : parts_) parts.reserve(2 * kLeast);
}

void Stretches::add(std::size_t channel, double square, double plain, double highest) {
  Part& part = open_[channel];
  part.square += square;
  part.plain += plain;
  part.highest = std::max(part.highest, highest);
}

void Stretches::advance(std::int64_t frames) {
  filled_ += frames;
  if (filled_ < length_) return;
  filled_ = 0;
  for (std::size_t c = 0; c < open_.size(); ++c) {
    parts_[c].push_back(open_[c]);
    open_[c] = {};
  }
  if (parts_.front().size() < 2 * kLeast) return;
  length_ *= 2;
  for (auto& parts : parts_) {
    for (std::size_t i = 0; i < kLeast; ++i) {
      const Part &one = parts[2 * i], &two = parts[2 * i + 1];
      parts[i] = {one.square + two.square, one.plain + two.plain, std::max(one.highest, two.highest)};
    }
    parts.resize(kLeast);
  }
}

std::optional<Stretches::Uncertainty> Stretches::uncertainty(std::size_t channel) const {
  const auto& parts = parts_[channel];
  if (parts.size() < kLeast) return std::nullopt;
  const auto length = static_cast<double>(length_), count = static_cast<double>(parts.size());
  std::vector<double> powers, means;
  double mean = 0, highest = 0, highest_mean = 0, highest_square = 0;
  for (const Part& part : parts) {
    powers.push_back(part.square / length);
    means.push_back(part.plain / length);
    mean += part.square / length / count;
    highest = std::max(highest, part.highest);
    highest_mean += part.highest / count;
  }
  if (!(mean > 0) || std::any_of(powers.begin(), powers.end(),
                                 [&](double p) { return p > kStill * mean || p * kStill < mean; }))
    return std::nullopt;
  for (const Part& part : parts)
    highest_square += (part.highest - highest_mean) * (part.highest - highest_mean) / (count - 1);
  return Uncertainty{uncertainty_of_mean(powers) / mean, uncertainty_of_mean(means),
                     kOfHighest * std::sqrt(highest_square) / highest};
}

}  // namespace wavicon::measure_detail
