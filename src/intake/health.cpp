#include "wavicon/intake/health.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

constexpr std::int64_t kBlock = 8192;

std::vector<ChannelHealth> meter(const Audio& capture, SampleFormat format) {
  HealthMeter health(capture.channel_count(), capture.sample_rate_hz(), format);
  const auto channels = static_cast<std::size_t>(capture.channel_count());
  std::vector<double> block;
  for (std::int64_t start = 0; start < capture.frames(); start += kBlock) {
    const auto count = static_cast<std::size_t>(std::min(kBlock, capture.frames() - start));
    block.resize(count * channels);
    for (std::size_t c = 0; c < channels; ++c) {
      const double* from = capture.channel(static_cast<int>(c)).data() + start;
      for (std::size_t n = 0; n < count; ++n) block[n * channels + c] = from[n];
    }
    health.push(block);
  }
  return health.finish();
}

// Complete takes before cut ones, then the better match.
std::size_t best_take(const std::vector<Take>& takes) {
  auto worth = [](const Take& take) {
    double sum = 0;
    for (const auto& mark : {take.start, take.end})
      if (mark) sum += 1 + mark->match;
    return sum - (take.slipped_frames != 0 ? 0.5 : 0.0);
  };
  return static_cast<std::size_t>(
      std::max_element(takes.begin(), takes.end(),
                       [&](const Take& a, const Take& b) { return worth(a) < worth(b); }) -
      takes.begin());
}

// The frame at which the capture goes over from lying by the start mark to lying by the end mark: where the
// running difference of the squared residuals against both is lowest.
double find_slip(const Audio& capture, Stimulus& stimulus, const Take& take) {
  const auto x = capture.channel(take.channel);
  const int from_channel = std::min(take.channel, stimulus.recipe().channel_count - 1);
  const double gain = take.start->gain;
  const std::int64_t begin = std::llround(take.start->frame), slip = take.slipped_frames;
  const std::int64_t length = std::llround(take.end->frame) - begin;
  const std::int64_t origin = begin - stimulus.marks()->start_frame;
  std::vector<double> early(static_cast<std::size_t>(kBlock)), late(static_cast<std::size_t>(kBlock));
  double sum = 0, lowest = 0;
  std::int64_t at = begin;
  for (std::int64_t n = begin; n < begin + length; n += kBlock) {
    const auto count = static_cast<std::size_t>(std::min(kBlock, begin + length - n));
    stimulus.render(n - origin, from_channel, std::span(early).first(count));
    stimulus.render(n - origin - slip, from_channel, std::span(late).first(count));
    for (std::size_t i = 0; i < count; ++i) {
      const auto frame = static_cast<std::size_t>(n) + i;
      if (frame >= x.size()) break;
      const double a = x[frame] - gain * early[i], b = x[frame] - gain * late[i];
      sum += a * a - b * b;
      if (sum < lowest) {
        lowest = sum;
        at = n + static_cast<std::int64_t>(i);
      }
    }
  }
  return static_cast<double>(at);
}

// Zeros where the stimulus is silent as well were played, not dropped.
void forgive_played_silence(Stimulus& stimulus, const Take& take, std::vector<ChannelHealth>& channels) {
  for (std::size_t c = 0; c < channels.size(); ++c) {
    ChannelHealth& health = channels[c];
    const int from_channel = std::min(static_cast<int>(c), stimulus.recipe().channel_count - 1);
    const std::size_t before = health.dropouts.size();
    std::erase_if(health.dropouts, [&](const Stretch& stretch) {
      const double first =
          (static_cast<double>(stretch.first_frame) - take.first_frame) / take.frames_per_frame;
      std::vector<double> played(static_cast<std::size_t>(
          std::max(1.0, static_cast<double>(stretch.frames) / take.frames_per_frame)));
      stimulus.render(std::llround(first), from_channel, played);
      const auto zeros = std::count(played.begin(), played.end(), 0.0);
      return 10 * zeros > 9 * static_cast<std::ptrdiff_t>(played.size());
    });
    health.dropout_count -= static_cast<std::int64_t>(before - health.dropouts.size());
  }
}

bool all_channels_same(const Audio& capture) {
  if (capture.channel_count() < 2) return false;
  const auto first = capture.channel(0);
  for (int c = 1; c < capture.channel_count(); ++c) {
    const auto other = capture.channel(c);
    if (!std::equal(first.begin(), first.end(), other.begin())) return false;
  }
  return true;
}

void compare(const Audio& capture, Stimulus& stimulus, const HealthOptions& options, HealthResult& result) {
  result.compared = true;
  result.takes = locate(capture, stimulus, options.locate);
  if (options.take && *options.take >= result.takes.size())
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no take {}: the stimulus was found {} time{}", *options.take + 1,
                            result.takes.size(), result.takes.size() == 1 ? "" : "s"));
  if (result.takes.empty()) return;
  result.best = options.take.value_or(best_take(result.takes));
  const Take& take = result.takes[*result.best];
  if (take.slipped_frames != 0 && take.frames_per_frame == 1.0)
    result.slip_frame = find_slip(capture, stimulus, take);
  forgive_played_silence(stimulus, take, result.channels);
  const int expected = std::min(capture.channel_count(), stimulus.recipe().channel_count);
  for (int c = 0; c < expected; ++c)
    if (result.channels[static_cast<std::size_t>(c)].silent) result.missing_channels.push_back(c);
}

}  // namespace

HealthResult check_health(const Audio& capture, Stimulus* stimulus, const HealthOptions& options) {
  if (capture.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  HealthResult result;
  result.format = options.format;
  result.sample_rate_hz = capture.sample_rate_hz();
  result.frames = capture.frames();
  result.channels = meter(capture, options.format);
  result.same_on_all_channels = all_channels_same(capture);
  const bool broken = std::any_of(result.channels.begin(), result.channels.end(),
                                  [](const auto& c) { return c.broken_frame.has_value(); });
  const bool silent =
      std::all_of(result.channels.begin(), result.channels.end(), [](const auto& c) { return c.silent; });
  if (stimulus != nullptr && !broken && !silent) compare(capture, *stimulus, options, result);
  return result;
}

}  // namespace wavicon
