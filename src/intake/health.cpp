// SPDX-License-Identifier: MIT
#include "wavicon/intake/health.hpp"
#include "wavicon/intake/recognise.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "island_parts.hpp"
#include "place_by_parts.hpp"
#include "samples.hpp"
#include "spectra.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/read_ahead.hpp"
#include "wavicon/stimulus/stimulus_source.hpp"

namespace wavicon {
namespace {

constexpr double kCrosstalkShare = 0.25;  // of a channel's level: what is left of it in another one
constexpr std::int64_t kBlock = 2048;     // frames read at once: they stay in the cache

std::vector<ChannelHealth> meter(AudioSource& capture, SampleFormat format) {
  HealthMeter health(capture.channel_count(), capture.sample_rate_hz(), format);
  for_each_block_ahead(
      capture, 0, capture.frames(), kBlock,
      [&](std::int64_t, std::span<const double> planar, std::int64_t) { health.push(planar); });
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
double find_slip(AudioSource& capture, Stimulus& stimulus, const Take& take) {
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
    const auto x = read_channel(capture, take.channel, n, static_cast<std::int64_t>(count));
    for (std::size_t i = 0; i < count; ++i) {
      const double a = x[i] - gain * early[i], b = x[i] - gain * late[i];
      sum += a * a - b * b;
      if (sum < lowest) {
        lowest = sum;
        at = n + static_cast<std::int64_t>(i);
      }
    }
  }
  return static_cast<double>(at);
}

// The stimulus as it was played under a stretch of the capture, with as many frames around it.
std::vector<double> played_under(Stimulus& stimulus, const Take& take, std::optional<double> slip_frame,
                                 std::size_t channel, const Stretch& stretch, std::int64_t around) {
  const int from_channel = std::min(static_cast<int>(channel), stimulus.recipe().channel_count - 1);
  const auto at = static_cast<double>(stretch.first_frame);
  // Behind the place where frames were lost or repeated everything lies by that much elsewhere.
  const double moved = slip_frame && at > *slip_frame ? static_cast<double>(take.slipped_frames) : 0;
  const double first = (at - moved - take.first_frame) / take.frames_per_frame;
  std::vector<double> played(
      static_cast<std::size_t>(std::max(1.0, static_cast<double>(stretch.frames) / take.frames_per_frame)) +
      static_cast<std::size_t>(2 * around));
  stimulus.render(std::llround(first) - around, from_channel, played);
  return played;
}

// A jump that was played: the third difference stands out of the stimulus as well.
bool jumps(const std::vector<double>& played) {
  double highest = 0, sum = 0;
  for (std::size_t n = 3; n < played.size(); ++n) {
    const double change = std::abs((played[n] - played[n - 3]) - 3.0 * (played[n - 1] - played[n - 2]));
    highest = std::max(highest, change);
    sum += change;
  }
  constexpr double kPlainly = 4;  // over the mean
  return highest * static_cast<double>(played.size()) > kPlainly * sum;
}

// Faults that the stimulus holds by itself were played, they did not happen.
void forgive_what_was_played(Stimulus& stimulus, const Take& take, std::optional<double> slip_frame,
                             std::vector<ChannelHealth>& channels) {
  constexpr std::int64_t kAround = 128;
  for (std::size_t c = 0; c < channels.size(); ++c) {
    ChannelHealth& health = channels[c];
    auto forgive = [](std::vector<Stretch>& stretches, std::int64_t& count, auto&& was_played) {
      const std::size_t before = stretches.size();
      std::erase_if(stretches, was_played);
      count = stretches.empty() ? 0 : count - static_cast<std::int64_t>(before - stretches.size());
    };
    forgive(health.dropouts, health.dropout_count, [&](const Stretch& stretch) {
      const auto played = played_under(stimulus, take, slip_frame, c, stretch, 0);
      return 10 * std::count(played.begin(), played.end(), 0.0) >
             9 * static_cast<std::ptrdiff_t>(played.size());
    });
    forgive(health.jumps, health.jump_count, [&](const Stretch& stretch) {
      return jumps(played_under(stimulus, take, slip_frame, c, stretch, kAround));
    });
    forgive(health.repeats, health.repeat_count, [&](const Stretch& stretch) {
      const auto played = played_under(stimulus, take, slip_frame, c,
                                       {stretch.first_frame - stretch.frames, 2 * stretch.frames}, 0);
      const auto half = static_cast<std::ptrdiff_t>(played.size() / 2);
      return std::equal(played.begin(), played.begin() + half, played.begin() + half);
    });
  }
}

// A jump where something was cut, lost or replaced has been told by that name.
void forgive_what_was_told(const HealthResult& result, std::vector<ChannelHealth>& channels) {
  const double reach = 0.005 * result.sample_rate_hz;
  for (ChannelHealth& health : channels) {
    auto told = [&](const Stretch& jump) {
      const auto at = static_cast<double>(jump.first_frame);
      auto near = [&](const std::vector<Stretch>& stretches) {
        return std::any_of(stretches.begin(), stretches.end(), [&](const Stretch& s) {
          return at > static_cast<double>(s.first_frame) - reach &&
                 at < static_cast<double>(s.first_frame + s.frames) + reach;
        });
      };
      return near(health.dropouts) || near(health.repeats) || near(health.clipped) ||
             (result.slip_frame && std::abs(*result.slip_frame - at) < reach + 64);
    };
    // What was repeated where the frames slipped is the slip.
    std::erase_if(health.repeats, [&](const Stretch& repeat) {
      return result.slip_frame && std::abs(*result.slip_frame - static_cast<double>(repeat.first_frame)) <
                                      static_cast<double>(repeat.frames) + reach;
    });
    if (health.repeats.empty()) health.repeat_count = 0;
    const std::size_t before = health.jumps.size();
    std::erase_if(health.jumps, told);
    health.jump_count = health.jumps.empty()
                            ? 0
                            : health.jump_count - static_cast<std::int64_t>(before - health.jumps.size());
  }
}

// Whether the channels of a stimulus can be told apart by a part.
bool tells_channels(const RecipePart& part) {
  const auto* noise = std::get_if<Noise>(&part.kind);
  return !part.channels.empty() || std::holds_alternative<ChannelNumbers>(part.kind) ||
         (noise != nullptr && noise->independent);
}

// A part up to a frame of it, for noise that is another one on each channel: its level is known once all of
// it was made, and a few seconds tell as much. None for what is not longer, or something else.
std::optional<Stimulus> beginning_of(const RecipePart& part, const Recipe& recipe, std::int64_t frames) {
  const auto* noise = std::get_if<Noise>(&part.kind);
  const double seconds = static_cast<double>(frames) / recipe.sample_rate_hz;
  if (noise == nullptr || !noise->independent || noise->seconds <= std::max(seconds, noise->fade_in_s))
    return std::nullopt;
  Noise shorter = *noise;
  shorter.seconds = std::max(seconds, noise->fade_in_s);
  shorter.fade_out_s = 0;
  Recipe alone{.sample_rate_hz = recipe.sample_rate_hz,
               .channel_count = recipe.channel_count,
               .bits = recipe.bits,
               .marks = false};
  alone.parts.push_back({.kind = shorter, .channels = part.channels});
  return Stimulus(alone);
}

// What the channels of a capture have in common with those of a stimulus: Σ|s·x| over blocks in which these
// differ.
class ChannelScores {
 public:
  ChannelScores(AudioSource& capture, const Take& take, int stimulus_channels)
      : capture_(capture),
        take_(take),
        scores_(static_cast<std::size_t>(capture.channel_count()),
                std::vector<double>(static_cast<std::size_t>(stimulus_channels), 0.0)),
        played_(static_cast<std::size_t>(stimulus_channels),
                std::vector<double>(static_cast<std::size_t>(kBlock))) {}

  // A block of a stimulus from `start` on, whose frame 0 is frame `origin` of what was played.
  void add(Stimulus& stimulus, std::int64_t start, std::int64_t origin) {
    for (std::size_t d = 0; d < played_.size(); ++d) stimulus.render(start, static_cast<int>(d), played_[d]);
    if (std::all_of(played_.begin() + 1, played_.end(),
                    [&](const auto& other) { return other == played_[0]; }))
      return;
    told_ = true;
    const auto first =
        std::llround(take_.first_frame + static_cast<double>(origin + start) * take_.frames_per_frame);
    const auto length = static_cast<std::int64_t>(static_cast<double>(kBlock) * take_.frames_per_frame) + 2;
    captured_.resize(static_cast<std::size_t>(length * capture_.channel_count()));
    capture_.read(first, captured_);
    for (std::size_t c = 0; c < scores_.size(); ++c)
      for (std::size_t d = 0; d < played_.size(); ++d)
        for (std::int64_t n = 0; n < kBlock; ++n) {
          const auto at = std::min<std::int64_t>(
              length - 1, std::llround(static_cast<double>(n) * take_.frames_per_frame));
          scores_[c][d] +=
              std::abs(played_[d][static_cast<std::size_t>(n)] *
                       captured_[static_cast<std::size_t>(static_cast<std::int64_t>(c) * length + at)]);
        }
  }

  // For each channel of the capture the one that it follows best; none where the channels never differed.
  [[nodiscard]] std::vector<int> best() const {
    std::vector<int> carries;
    if (!told_) return carries;
    for (std::size_t c = 0; c < scores_.size(); ++c) {
      const auto& row = scores_[c];
      const auto best = static_cast<std::size_t>(std::max_element(row.begin(), row.end()) - row.begin());
      // What is far below the channel that it belongs to is crosstalk.
      double most = 0;
      for (const auto& other : scores_) most = std::max(most, other[best]);
      const bool own = c < row.size() && (row[best] == 0 || row[best] < kCrosstalkShare * most);
      carries.push_back(static_cast<int>(own ? c : best));
    }
    return carries;
  }

 private:
  AudioSource& capture_;
  const Take& take_;
  std::vector<std::vector<double>> scores_, played_;
  std::vector<double> captured_;
  bool told_ = false;
};

// Which channel of the stimulus each channel of the capture holds, told by the parts that do not play on all
// channels: the one whose energy over those parts it follows best.
std::vector<int> carried_channels(AudioSource& capture, Stimulus& stimulus, const Take& take) {
  constexpr std::int64_t kMostBlocks = 256;  // of a part, spread over it: what is short is looked at whole
  const Recipe& recipe = stimulus.recipe();
  if (recipe.channel_count < 2 || capture.channel_count() < 2 || take.slipped_frames != 0) return {};
  constexpr double kEnoughS = 5;
  // Of the stimulus, what the capture holds.
  const double begin = -take.first_frame / take.frames_per_frame,
               end = begin + static_cast<double>(capture.frames()) / take.frames_per_frame;
  ChannelScores scores(capture, take, recipe.channel_count);
  for (std::size_t i = 0; i < recipe.parts.size(); ++i) {
    if (!tells_channels(recipe.parts[i])) continue;
    const PlacedPart& placed = stimulus.parts()[i];
    const std::int64_t from = std::max<std::int64_t>(0, std::llround(begin) - placed.first_frame);
    std::int64_t until = std::min<std::int64_t>(placed.frames, std::llround(end) - placed.first_frame);
    std::optional<Stimulus> beginning =
        beginning_of(recipe.parts[i], recipe, from + std::llround(kEnoughS * recipe.sample_rate_hz));
    if (beginning) until = std::min(until, beginning->frames());
    if (until <= from) continue;
    Stimulus& played = beginning ? *beginning : stimulus;
    // Frame 0 of what is rendered, and of the part in it.
    const std::int64_t origin = beginning ? placed.first_frame : 0,
                       start = placed.first_frame - origin + from, frames = until - from,
                       count = std::min(kMostBlocks, (frames + kBlock - 1) / kBlock);
    for (std::int64_t block = 0; block < count; ++block)
      scores.add(played,
                 start + (count == 1 ? 0 : block * std::max<std::int64_t>(0, frames - kBlock) / (count - 1)),
                 origin);
  }
  return scores.best();
}

void add_spectra(AudioSource& capture, const Audio* held, std::vector<ChannelHealth>& channels) {
  const auto ends = intake_detail::band_ends_hz(capture, held);
  const auto hums = intake_detail::mains_hum(capture, held);
  for (std::size_t c = 0; c < channels.size(); ++c) {
    channels[c].band_end_hz = ends[c];
    channels[c].hum = hums[c];
  }
}

// A band that the stimulus ends by itself was not cut off on the way, and low tones that it plays are no hum.
void forgive_spectra(Stimulus& stimulus, std::vector<ChannelHealth>& channels) {
  StimulusSource played(stimulus);
  auto any = [&](auto has) { return std::any_of(channels.begin(), channels.end(), has); };
  if (any([](const ChannelHealth& c) { return c.band_end_hz.has_value(); })) {
    const auto own = intake_detail::band_ends_hz(played)[0];
    for (ChannelHealth& channel : channels)
      if (own && channel.band_end_hz && *channel.band_end_hz > 0.9 * *own) channel.band_end_hz.reset();
  }
  if (any([](const ChannelHealth& c) { return c.hum.has_value(); })) {
    const auto own = intake_detail::mains_hum(played)[0];
    for (ChannelHealth& channel : channels)
      if (own && channel.hum && own->base_hz == channel.hum->base_hz) channel.hum.reset();
  }
}

void compare(AudioSource& capture, Stimulus& stimulus, const HealthOptions& options, HealthResult& result) {
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
  forgive_what_was_played(stimulus, take, result.slip_frame, result.channels);
  result.carries = carried_channels(capture, stimulus, take);
  const int expected = std::min(capture.channel_count(), stimulus.recipe().channel_count);
  for (int c = 0; c < expected; ++c)
    if (result.channels[static_cast<std::size_t>(c)].silent) result.missing_channels.push_back(c);
}

}  // namespace

namespace {

// The channel that sounds loudest.
// Worth being taken apart to see what it is made of.
bool is_short_and_certain(AudioSource& source) {
  constexpr double kLongestS = 600;
  return static_cast<double>(source.frames()) <= kLongestS * source.sample_rate_hz() &&
         intake_detail::begins_certainly(source);
}

int loudest_of(AudioSource& source) {
  const auto channels = static_cast<std::size_t>(source.channel_count());
  std::vector<double> scratch(channels * 16384), powers(channels, 0.0);
  for_each_block(source, 0, source.frames(), scratch,
                 [&](std::int64_t, std::span<const double> planar, std::int64_t frames) {
                   for (std::size_t c = 0; c < channels; ++c)
                     powers[c] += intake_detail::energy(planar.subspan(c * static_cast<std::size_t>(frames),
                                                                       static_cast<std::size_t>(frames)));
                 });
  return static_cast<int>(std::max_element(powers.begin(), powers.end()) - powers.begin());
}

// What a device that moves the gain left of steps and blocks is found by these, one by one; and the pauses
// between them were played.
void refer_by_parts(AudioSource& reference, AudioSource& capture, int channel, HealthResult& result) {
  if (reference.sample_rate_hz() != capture.sample_rate_hz() || !is_short_and_certain(reference)) return;
  const auto made = recipe_of(recognise(reference), reference.channel_count());
  if (!made || !made->complete) return;
  Stimulus stimulus(made->recipe);
  const auto place = intake_detail::place_by_parts(stimulus, capture, channel);
  if (!place) return;
  Alignment found;
  found.delay_frames = place->first_frame;
  found.frames_per_frame = place->frames_per_frame;
  found.drift_ppm = 1e6 * (place->frames_per_frame - 1);
  found.by_parts = true;
  found.first_frame = std::max<std::int64_t>(0, std::llround(-place->first_frame));
  found.end_frame =
      std::min(reference.frames(),
               static_cast<std::int64_t>(static_cast<double>(capture.frames()) - place->first_frame));
  result.alignment = found;
  Take take;
  take.channel = channel;
  take.first_frame = place->first_frame;
  take.frames_per_frame = place->frames_per_frame;
  forgive_what_was_played(stimulus, take, std::nullopt, result.channels);
}

// Where the reference lies: by the marks of the stimulus where both have them, else by what both hold.
void refer(AudioSource& reference, AudioSource& capture, const Stimulus* stimulus,
           const HealthOptions& options, HealthResult& result) {
  if (stimulus != nullptr && result.best && reference.sample_rate_hz() == capture.sample_rate_hz())
    if (const auto takes = locate(reference, *stimulus, options.locate); !takes.empty()) {
      result.alignment = alignment_of(takes[best_take(takes)], result.takes[*result.best]);
      result.aligned_by_marks = true;
      return;
    }
  AlignOptions channels{.reference_channel = loudest_of(reference)};
  const auto here = static_cast<std::size_t>(channels.reference_channel);
  channels.capture_channel = here < result.channels.size() && !result.channels[here].silent
                                 ? channels.reference_channel
                                 : loudest_of(capture);
  result.alignment = align(reference, capture, channels);
  if (!result.alignment && stimulus == nullptr)
    refer_by_parts(reference, capture, channels.capture_channel, result);
}

// Nothing is known of it: what is recognised to be pauses between tones, and their edges, was played as well.
void forgive_what_is_recognised(AudioSource& capture, std::vector<ChannelHealth>& channels) {
  const bool any = std::any_of(channels.begin(), channels.end(), [](const ChannelHealth& c) {
    return c.dropout_count + c.jump_count + c.repeat_count > 0;
  });
  if (!any || !is_short_and_certain(capture)) return;
  const auto made = recipe_of(recognise(capture), capture.channel_count());
  if (!made || !made->complete) return;
  Stimulus stimulus(made->recipe);
  forgive_what_was_played(stimulus, Take{}, std::nullopt, channels);
}

// @param held  the same audio, where it lies in memory.
HealthResult check(AudioSource& capture, const Audio* held, Stimulus* stimulus,
                   const HealthOptions& options) {
  if (capture.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  HealthResult result;
  result.format = options.format;
  result.sample_rate_hz = capture.sample_rate_hz();
  result.frames = capture.frames();
  result.channels = meter(capture, options.format);
  auto& channels = result.channels;
  result.same_on_all_channels =
      channels.size() > 1 &&
      std::all_of(channels.begin(), channels.end(), [](const auto& c) { return c.same_as_first; });
  const bool broken =
      std::any_of(channels.begin(), channels.end(), [](const auto& c) { return c.broken_frame.has_value(); });
  const bool silent = std::all_of(channels.begin(), channels.end(), [](const auto& c) { return c.silent; });
  if (broken || silent) return result;
  if (options.spectra) add_spectra(capture, held, channels);
  if (stimulus != nullptr && options.place) {
    forgive_what_was_played(*stimulus, *options.place, std::nullopt, channels);
  } else if (stimulus == nullptr) {
    forgive_what_is_recognised(capture, channels);
  } else {
    compare(capture, *stimulus, options, result);
    if (options.spectra) forgive_spectra(*stimulus, channels);
  }
  if (options.reference != nullptr) {
    result.referenced = true;
    result.reference_frames = options.reference->frames();
    refer(*options.reference, capture, stimulus, options, result);
  }
  forgive_what_was_told(result, channels);
  return result;
}

}  // namespace

HealthResult check_health(AudioSource& capture, Stimulus* stimulus, const HealthOptions& options) {
  // A short capture is read once, and not for each of the blocks whose spectra are looked at, which overlap.
  constexpr std::int64_t kShort = 1 << 19;  // samples: 4 MB
  if (!options.spectra || capture.frames() * capture.channel_count() > kShort)
    return check(capture, nullptr, stimulus, options);
  const Audio whole = read_stretch(capture, 0, capture.frames());
  return check_health(whole, stimulus, options);
}

HealthResult check_health(const Audio& capture, Stimulus* stimulus, const HealthOptions& options) {
  MemorySource source(capture);
  return check(source, &capture, stimulus, options);
}

}  // namespace wavicon
