// SPDX-License-Identifier: MIT
#include "wavicon/stimulus/parts.hpp"

#include <algorithm>
#include <cmath>

namespace wavicon {
namespace {

template <std::size_t Index = 0>
PartKind kind_at(std::size_t index) {
  if constexpr (Index + 1 < std::variant_size_v<PartKind>) {
    if (index > Index) return kind_at<Index + 1>(index);
  }
  return std::variant_alternative_t<Index, PartKind>{};
}

}  // namespace

const std::vector<std::string>& kind_names() {
  static const std::vector<std::string> kNames = {"tone",    "multitone", "two_tone",        "sweep",
                                                  "noise",   "burst",     "staircase",       "block",
                                                  "impulse", "silence",   "channel_numbers", "programme"};
  return kNames;
}

TwoTone resolved(const TwoTone& pair) {
  TwoTone result = pair;
  auto set = [&](double lower_hz, double upper_hz, double ratio) {
    result.lower_hz = lower_hz;
    result.upper_hz = upper_hz;
    result.ratio = ratio;
  };
  if (pair.pair == "smpte") set(60, 7000, 4);
  if (pair.pair == "din") set(250, 8000, 4);
  if (pair.pair == "itu") set(19000, 20000, 1);
  return result;
}

std::int64_t noise_period_frames(const Noise& noise, double sample_rate_hz) {
  if (!noise.period_s) return 0;
  return std::int64_t{1} << std::max(4L, std::lround(std::log2(*noise.period_s * sample_rate_hz)));
}

std::string kind_name(const PartKind& kind) { return kind_names()[kind.index()]; }

std::optional<PartKind> kind_from_name(const std::string& name) {
  const auto found = std::find(kind_names().begin(), kind_names().end(), name);
  if (found == kind_names().end()) return std::nullopt;
  return kind_at(static_cast<std::size_t>(found - kind_names().begin()));
}

}  // namespace wavicon
