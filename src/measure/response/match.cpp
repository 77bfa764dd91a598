// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/measure/response/response.hpp"

namespace wavicon {
namespace {

constexpr double kLittle = 1e-8;      // ε over the highest of |H1|²
constexpr double kFadedShare = 0.25;  // of the filter, at both ends together
constexpr double kShortestFilterS = 0.005;
constexpr double kLongestFilterS = 1;

std::vector<std::complex<double>> spectrum_of(const ChannelResponse& channel, RealTransform& transform) {
  auto bins = transform.bins_of(channel.impulse);
  // To where the common delay lies, fraction included.
  const double zero = static_cast<double>(channel.impulse_zero) + channel.impulse_rest;
  for (std::size_t k = 0; k < bins.size(); ++k)
    bins[k] *= std::polar(
        1.0, 2 * std::numbers::pi * static_cast<double>(k) * zero / static_cast<double>(transform.length()));
  return bins;
}

// From the last value that was measured to a real one of the same size at the end of the spectrum, so that
// nothing jumps.
void run_out(std::vector<std::complex<double>>& ratio, std::size_t from, std::size_t to) {
  const std::complex<double> edge = ratio[from], end = std::copysign(std::abs(edge), edge.real());
  const double way = std::abs(static_cast<double>(to) - static_cast<double>(from));
  for (std::size_t k = from; k != to;) {
    k = to > from ? k + 1 : k - 1;
    const double share = std::abs(static_cast<double>(k) - static_cast<double>(from)) / way;
    ratio[k] = edge + share * (end - edge);
  }
}

std::vector<double> matching_filter(const ChannelResponse& first, const ChannelResponse& second, double rate,
                                    std::size_t taps) {
  RealTransform transform(
      fast_transform_length(std::max(first.impulse.size(), second.impulse.size()) + 2 * taps));
  auto ratio = spectrum_of(first, transform);
  const auto to = spectrum_of(second, transform);
  const double bin = rate / static_cast<double>(transform.length());
  const auto low = static_cast<std::size_t>(
                 std::ceil(std::max(first.points.front().hz, second.points.front().hz) / bin)),
             high = std::min(
                 ratio.size() - 2,
                 static_cast<std::size_t>(std::min(first.points.back().hz, second.points.back().hz) / bin));
  double highest = 0;
  for (std::size_t k = low; k <= high; ++k) highest = std::max(highest, std::norm(ratio[k]));
  for (std::size_t k = low; k <= high; ++k)
    ratio[k] = to[k] * std::conj(ratio[k]) / (std::norm(ratio[k]) + kLittle * highest);
  run_out(ratio, low, 0);
  run_out(ratio, high, ratio.size() - 1);
  const auto circular = transform.invert(ratio);
  std::vector<double> filter(taps);
  const double faded = 0.5 * kFadedShare * static_cast<double>(taps);
  for (std::size_t i = 0; i < taps; ++i) {
    const double inside = std::min(static_cast<double>(i) + 0.5, static_cast<double>(taps - i) - 0.5) / faded,
                 fade = inside < 1 ? 0.5 - 0.5 * std::cos(std::numbers::pi * inside) : 1;
    filter[i] = fade * circular[(i + circular.size() - taps / 2) % circular.size()];
  }
  return filter;
}

}  // namespace

std::vector<std::vector<double>> matching_filters(const ResponseResult& first, const ResponseResult& second,
                                                  double seconds) {
  const auto fail = [](const std::string& what) { throw Error(ErrorCode::bad_argument, what); };
  if (!(seconds >= kShortestFilterS && seconds <= kLongestFilterS))
    fail(fmt::format("a filter of {} s is not within {} to {}", seconds, kShortestFilterS, kLongestFilterS));
  if (first.sample_rate_hz != second.sample_rate_hz || first.channels.size() != second.channels.size())
    fail("a filter from one response to another takes the same rate and number of channels of both");
  std::vector<std::vector<double>> filters;
  for (std::size_t c = 0; c < first.channels.size(); ++c) {
    for (const ChannelResponse* channel : {&first.channels[c], &second.channels[c]}) {
      if (!channel->measured || channel->crosstalk_from || channel->impulse.empty())
        fail(
            fmt::format("channel {} has no response over time to make a filter of: measure a sweep, or noise "
                        "with a period",
                        c + 1));
      if (channel->cut_hz || !channel->clipped_hz.empty())
        fail(fmt::format("channel {} clips or is cut off in part of its response: a filter takes the whole",
                         c + 1));
    }
    filters.push_back(matching_filter(first.channels[c], second.channels[c], first.sample_rate_hz,
                                      static_cast<std::size_t>(seconds * first.sample_rate_hz)));
  }
  return filters;
}

}  // namespace wavicon
