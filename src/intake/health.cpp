#include "wavicon/intake/health.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "band_end.hpp"
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

// The highest frequency that a stimulus itself reaches, as far as its parts say; none when it may reach half
// the rate.
std::optional<double> stimulus_band_end_hz(Stimulus& stimulus) {
  std::vector<double> played(static_cast<std::size_t>(stimulus.frames()));
  stimulus.render(0, 0, played);
  return intake_detail::band_end_hz(played, stimulus.recipe().sample_rate_hz);
}

// Which channel of the stimulus each channel of the capture holds, told by the parts that do not play on all
// channels: the one whose energy over those parts it follows best.
std::vector<int> carried_channels(const Audio& capture, Stimulus& stimulus, const Take& take) {
  const int channels = stimulus.recipe().channel_count;
  if (channels < 2 || capture.channel_count() < 2 || take.slipped_frames != 0) return {};
  std::vector<std::vector<double>> scores(static_cast<std::size_t>(capture.channel_count()),
                                          std::vector<double>(static_cast<std::size_t>(channels), 0.0));
  bool told = false;
  std::vector<std::vector<double>> played(static_cast<std::size_t>(channels),
                                          std::vector<double>(static_cast<std::size_t>(kBlock)));
  for (std::int64_t start = 0; start < stimulus.frames(); start += kBlock) {
    for (int d = 0; d < channels; ++d) stimulus.render(start, d, played[static_cast<std::size_t>(d)]);
    const bool same =
        std::all_of(played.begin() + 1, played.end(), [&](const auto& other) { return other == played[0]; });
    if (same) continue;
    told = true;
    for (int c = 0; c < capture.channel_count(); ++c)
      for (int d = 0; d < channels; ++d)
        for (std::int64_t n = 0; n < kBlock; ++n) {
          const auto frame =
              std::llround(take.first_frame + static_cast<double>(start + n) * take.frames_per_frame);
          if (frame < 0 || frame >= capture.frames()) continue;
          const double s = played[static_cast<std::size_t>(d)][static_cast<std::size_t>(n)],
                       x = capture.channel(c)[static_cast<std::size_t>(frame)];
          scores[static_cast<std::size_t>(c)][static_cast<std::size_t>(d)] += std::abs(s * x);
        }
  }
  if (!told) return {};
  std::vector<int> carries;
  for (const auto& row : scores)
    carries.push_back(static_cast<int>(std::max_element(row.begin(), row.end()) - row.begin()));
  return carries;
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
  result.stimulus_channels = stimulus.recipe().channel_count;
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
  result.carries = carried_channels(capture, stimulus, take);
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
  for (int c = 0; c < capture.channel_count(); ++c) {
    ChannelHealth& channel = result.channels[static_cast<std::size_t>(c)];
    if (options.spectra && !channel.broken_frame && !channel.silent)
      channel.band_end_hz = intake_detail::band_end_hz(capture.channel(c), capture.sample_rate_hz());
  }
  const bool broken = std::any_of(result.channels.begin(), result.channels.end(),
                                  [](const auto& c) { return c.broken_frame.has_value(); });
  const bool silent =
      std::all_of(result.channels.begin(), result.channels.end(), [](const auto& c) { return c.silent; });
  if (stimulus != nullptr && !broken && !silent) {
    compare(capture, *stimulus, options, result);
    // A band that the stimulus ends by itself was not cut off on the way.
    const bool ends = std::any_of(result.channels.begin(), result.channels.end(),
                                  [](const auto& c) { return c.band_end_hz.has_value(); });
    const auto own = ends ? stimulus_band_end_hz(*stimulus) : std::nullopt;
    for (ChannelHealth& channel : result.channels)
      if (own && channel.band_end_hz && *channel.band_end_hz > 0.9 * *own) channel.band_end_hz.reset();
  }
  return result;
}

}  // namespace wavicon
