// SPDX-License-Identifier: MIT
#include "envelope.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "samples.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kBlockS = 0.001;
constexpr double kActivePower = 1e-4;  // of the loudest block: -40 dB

}  // namespace

double Envelope::mean(std::size_t first, std::size_t end) const {
  const auto from = powers.begin() + static_cast<std::ptrdiff_t>(std::min(first, powers.size())),
             to = powers.begin() + static_cast<std::ptrdiff_t>(std::min(end, powers.size()));
  return from == to ? 0 : std::accumulate(from, to, 0.0) / static_cast<double>(to - from);
}

double Envelope::behind(std::size_t k) const {
  return k <= kGap ? 0 : mean(k > kBehind + kGap ? k - kBehind - kGap : 0, k - kGap);
}

Envelope envelope_of(AudioSource& source, int channel) {
  Envelope result;
  result.block = std::max<std::int64_t>(1, std::llround(kBlockS * source.sample_rate_hz()));
  std::vector<double> scratch(static_cast<std::size_t>(source.channel_count() * 64 * result.block));
  for_each_block(source, 0, source.frames(), scratch,
                 [&](std::int64_t, std::span<const double> planar, std::int64_t frames) {
                   const auto run = planar.subspan(static_cast<std::size_t>(channel * frames),
                                                   static_cast<std::size_t>(frames));
                   const auto block = static_cast<std::size_t>(result.block);
                   for (std::size_t n = 0; n < run.size(); n += block)
                     result.powers.push_back(energy(run.subspan(n, std::min(block, run.size() - n))));
                 });
  return result;
}

std::optional<Stretch> active_part(const Envelope& envelope, std::int64_t frames) {
  const auto& powers = envelope.powers;
  if (powers.empty()) return std::nullopt;
  const double least = kActivePower * *std::max_element(powers.begin(), powers.end());
  if (!(least > 0)) return std::nullopt;
  const auto loud = [&](double power) { return power >= least; };
  const auto first = std::find_if(powers.begin(), powers.end(), loud) - powers.begin();
  const auto last = powers.rend() - std::find_if(powers.rbegin(), powers.rend(), loud);
  return Stretch{first * envelope.block, std::min<std::int64_t>(last * envelope.block, frames)};
}

}  // namespace wavicon::intake_detail
