// SPDX-License-Identifier: MIT
#include "wavicon/measure/clipping/clipping.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/frame_range.hpp"
#include "measure/common/tone_level.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/student.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kFrameS = 0.06;
constexpr double kHopS = 0.02;
constexpr double kLeastPeriods = 6;       // of the tone in a frame: its orders come apart
constexpr double kLeastAmplitude = 1e-6;  // -120 dBFS: below, nothing clips
constexpr double kSustainedS = 0.2;
constexpr double kHardDb = 3;  // of the level from a tenth of the figure to three times it
constexpr double kLongestStepS = 1;

void require_valid(const ClippingOptions& o) {
  if (!(o.thd_percent >= 0.001 && o.thd_percent <= 50))
    throw Error(ErrorCode::bad_argument, "the THD that counts as clipping has to be within 0.001 and 50 %");
  if (!(o.compression_db >= 0.01 && o.compression_db <= 6))
    throw Error(ErrorCode::bad_argument,
                "the fall of the gain that counts as clipping has to be within 0.01 and 6 dB");
}

std::vector<double> read(AudioSource& source, int channel, std::int64_t from, std::int64_t frames) {
  auto samples = read_channel(source, channel, from, frames);
  for (std::size_t n = 0; n < samples.size(); ++n)
    if (!std::isfinite(samples[n]))
      throw Error(ErrorCode::bad_input, fmt::format("NaN or infinity in channel {}, frame {}", channel + 1,
                                                    from + static_cast<std::int64_t>(n)));
  return samples;
}

constexpr double kOfStep = 0.5, kOfSoftStep = 0.1;
constexpr double kOfFall = 5;  // dB of level for a dB of gain, where a curve begins to bend

double peak_of(const std::vector<double>& x) {
  double peak = 0;
  for (const double v : x) peak = std::max(peak, std::abs(v));
  return peak;
}

ClippingFrame frame_of(const std::vector<double>& x, double step, double time_s,
                       std::optional<double> in_dbfs) {
  const ToneLevel tone = tone_level(x, step);
  ClippingFrame frame{time_s, in_dbfs, db_from_ratio(std::max(tone.amplitude, 1e-12)),
                      tone.thd_ratio(x.size())};
  if (tone.amplitude > 0)
    frame.uncertainty_db = db_from_ratio(1 + tone.uncertainty(x.size()) / tone.amplitude);
  if (tone.amplitude < kLeastAmplitude) frame.thd_ratio.reset();
  return frame;
}

// Where a value passes a bound between two frames, as a share of the way; THD grows by powers of the level.
double share_at(double before, double after, double bound) {
  return after > before ? std::clamp((bound - before) / (after - before), 0.0, 1.0) : 1;
}

double between(double a, double b, double share) { return a + share * (b - a); }

// A level that is passed by a value over the levels; none when it is not.
std::optional<double> level_at(const std::vector<ClippingFrame>& frames, double thd) {
  for (std::size_t i = 1; i < frames.size(); ++i) {
    if (frames[i].thd_ratio.value_or(0) < thd) continue;
    return between(*frames[i - 1].in_dbfs, *frames[i].in_dbfs,
                   share_at(frames[i - 1].thd_ratio.value_or(0), *frames[i].thd_ratio, thd));
  }
  return std::nullopt;
}

// Gain at a vanishing level: what curves first takes off the gain in proportion to the power.
double gain_of_small_signals(const std::vector<ClippingFrame>& frames) {
  const std::size_t count = std::max<std::size_t>(1, frames.size() / 4);
  double n = 0, x = 0, y = 0, xx = 0, xy = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const double power = power_ratio_from_db(*frames[i].in_dbfs),
                 gain = frames[i].out_dbfs - *frames[i].in_dbfs;
    n += 1;
    x += power;
    y += gain;
    xx += power * power;
    xy += power * gain;
  }
  const double determinant = n * xx - x * x;
  return count < 3 || determinant <= 0 ? y / n : (y * xx - x * xy) / determinant;
}

// Of frames that overlap, as many as are apart; what the line leaves of them counts as noise.
double uncertainty_of_gain(const std::vector<ClippingFrame>& frames) {
  constexpr std::size_t kOverlap = 4;
  const std::size_t count = std::max<std::size_t>(1, frames.size() / 4);
  std::vector<double> gains;
  double mean = 0;
  for (std::size_t i = 0; i < count; ++i) {
    mean += frames[i].uncertainty_db / static_cast<double>(count);
    if (i % kOverlap == 0) gains.push_back(frames[i].out_dbfs - *frames[i].in_dbfs);
  }
  return std::max(mean / std::sqrt(std::max(1.0, static_cast<double>(count) / kOverlap)),
                  uncertainty_of_mean(gains));
}

// Levels rise from frame to frame.
void judge_levels(const ClippingOptions& options, ChannelClipping& channel) {
  const auto& frames = channel.frames;
  const double figure = options.thd_percent / 100;
  channel.gain_db = gain_of_small_signals(frames);
  channel.gain_uncertainty_db = uncertainty_of_gain(frames);
  const auto fall = [&](std::size_t i) {
    return *channel.gain_db - (frames[i].out_dbfs - *frames[i].in_dbfs);
  };
  for (std::size_t i = 0; i < frames.size() && !channel.point; ++i) {
    const double thd = frames[i].thd_ratio.value_or(0);
    const bool by_thd = thd >= figure, by_gain = fall(i) >= options.compression_db;
    if (!by_thd && !by_gain) continue;
    const std::size_t before = i == 0 ? 0 : i - 1;
    const double thd_share = by_thd ? share_at(frames[before].thd_ratio.value_or(0), thd, figure) : 2,
                 gain_share = by_gain ? share_at(fall(before), fall(i), options.compression_db) : 2;
    const double share = i == 0 ? 0 : std::min(thd_share, gain_share);
    channel.point = {between(*frames[before].in_dbfs, *frames[i].in_dbfs, share),
                     between(frames[before].out_dbfs, frames[i].out_dbfs, share),
                     between(frames[before].time_s, frames[i].time_s, share), gain_share < thd_share,
                     *frames[i].in_dbfs - *frames[before].in_dbfs};
  }
  const auto first = level_at(frames, figure / 10), last = level_at(frames, 3 * figure);
  if (channel.point && first && last) {
    channel.span_db = *last - *first;
    channel.shape = channel.span_db < kHardDb ? ClippingShape::hard : ClippingShape::soft;
  } else if (channel.point && first && *frames.back().in_dbfs - *first > kHardDb) {
    channel.span_db = *frames.back().in_dbfs - *first;
    channel.shape = ClippingShape::soft;
  }
  if (!channel.point) return;
  ClippingPoint& point = *channel.point;
  const double within = channel.shape == ClippingShape::soft ? kOfSoftStep : kOfStep;
  double noise_db = 0;
  for (const ClippingFrame& frame : frames)
    if (*frame.in_dbfs <= *point.in_dbfs) noise_db = frame.uncertainty_db;
  // A gain that has fallen by so little is told by what noise leaves of it.
  if (point.by_gain) noise_db = std::hypot(noise_db, channel.gain_uncertainty_db) * kOfFall;
  point.uncertainty_db = std::hypot(within * point.step_db, noise_db);
}

void judge_times(const ClippingOptions& options, ChannelClipping& channel) {
  const auto& frames = channel.frames;
  const double figure = options.thd_percent / 100;
  const auto above = [&](std::size_t i) { return frames[i].thd_ratio.value_or(0) >= figure; };
  for (std::size_t i = 0; i < frames.size(); ++i) {
    if (!above(i)) continue;
    std::size_t end = i;
    while (end < frames.size() && above(end)) ++end;
    if (frames[end - 1].time_s - frames[i].time_s >= kSustainedS || end == frames.size()) {
      const std::size_t before = i == 0 ? 0 : i - 1;
      const double share =
          i == 0 ? 0 : share_at(frames[before].thd_ratio.value_or(0), *frames[i].thd_ratio, figure);
      channel.point = {std::nullopt, between(frames[before].out_dbfs, frames[i].out_dbfs, share),
                       between(frames[before].time_s, frames[i].time_s, share), false,
                       std::abs(frames[i].out_dbfs - frames[before].out_dbfs)};
      channel.point->uncertainty_s = frames[i].time_s - frames[before].time_s;
      channel.point->uncertainty_db = std::hypot(kOfStep * channel.point->step_db, frames[i].uncertainty_db);
      return;
    }
    i = end;
  }
}

std::int64_t frame_length(double rate, double step) {
  const double period = 2 * std::numbers::pi / step;
  return std::llround(std::max(kFrameS * rate, kLeastPeriods * period)) / 4 * 4;
}

// Frames over a stretch whose level (a line in dB, of the stimulus) rises or is not known.
void walk(AudioSource& source, int channel, double first, double end, double step, const double* levels,
          ChannelClipping& out) {
  const double rate = source.sample_rate_hz();
  const std::int64_t length = frame_length(rate, step),
                     hop = std::max<std::int64_t>(1, std::llround(kHopS * rate));
  const auto from = static_cast<std::int64_t>(std::ceil(std::max(0.0, first))),
             to = std::min(source.frames(), static_cast<std::int64_t>(std::floor(end)));
  for (std::int64_t at = from; at + length <= to; at += hop) {
    const auto x = read(source, channel, at, length);
    const double middle = static_cast<double>(at) + static_cast<double>(length - 1) / 2;
    std::optional<double> in;
    if (levels != nullptr) in = between(levels[0], levels[1], (middle - first) / (end - first));
    const double peak = peak_of(x);
    out.ceiling_dbfs = std::max(out.ceiling_dbfs, peak);
    if (peak < kLeastAmplitude) continue;
    out.frames.push_back(frame_of(x, step, middle / rate, in));
  }
}

void finish(ChannelClipping& channel) {
  channel.measured = !channel.frames.empty();
  channel.ceiling_dbfs = channel.ceiling_dbfs > 0 ? db_from_ratio(channel.ceiling_dbfs) : 0;
}

}  // namespace

ClippingResult measure_clipping(const JudgedCapture& judged, std::size_t index,
                                const ClippingOptions& options) {
  AudioSource& capture = judged.source();
  const Stimulus& stimulus = judged.stimulus();
  const Take& take = judged.take();
  require_valid(options);
  const PlacedPart& part = stimulus.parts().at(index);
  const double stimulus_rate = stimulus.recipe().sample_rate_hz, rate = capture.sample_rate_hz();
  const auto place = [&](double frame) {
    return take.first_frame + (static_cast<double>(part.first_frame) + frame) * take.frames_per_frame;
  };
  if (place(0) < -1 || place(static_cast<double>(part.frames)) > static_cast<double>(capture.frames()) + 1)
    throw Error(ErrorCode::bad_input,
                fmt::format("the capture does not hold all of the part '{}'", part.name));
  ClippingResult result{options, part.name, rate, 0, {}};
  const auto& kind = stimulus.recipe().parts[index].kind;
  const auto* staircase = std::get_if<Staircase>(&kind);
  const auto* ramp = std::get_if<Multitone>(&kind);
  if (staircase == nullptr &&
      (ramp == nullptr || ramp->oscillators.size() != 1 || !ramp->oscillators[0].to_dbfs))
    throw Error(
        ErrorCode::bad_argument,
        fmt::format(
            "the part '{}' is no staircase, nor one tone whose level rises (a multitone with to_dbfs)",
            part.name));
  result.frequency_hz =
      staircase != nullptr ? staircase->frequencies_hz.front() : ramp->oscillators[0].frequency_hz;
  const double step = 2 * std::numbers::pi * result.frequency_hz / (stimulus_rate * take.frames_per_frame);
  for (int c = 0; c < capture.channel_count(); ++c) {
    ChannelClipping channel;
    if (staircase != nullptr) {
      for (const StaircaseStep& s : staircase_steps(*staircase, stimulus_rate)) {
        if (s.frequency_hz != result.frequency_hz) continue;
        const double end = static_cast<double>(s.first_frame + s.frames),
                     length = std::min(0.75 * static_cast<double>(s.frames), kLongestStepS * stimulus_rate);
        const auto from = static_cast<std::int64_t>(std::ceil(place(end - length))),
                   to = static_cast<std::int64_t>(place(end));
        const auto x = read(capture, c, from, to - from);
        channel.ceiling_dbfs = std::max(channel.ceiling_dbfs, peak_of(x));
        if (peak_of(x) < kLeastAmplitude) continue;
        channel.frames.push_back(frame_of(x, step, static_cast<double>(from + to) / 2 / rate, s.level_dbfs));
      }
      std::sort(channel.frames.begin(), channel.frames.end(),
                [](const auto& p, const auto& q) { return *p.in_dbfs < *q.in_dbfs; });
    } else {
      const double levels[] = {ramp->oscillators[0].level_dbfs, *ramp->oscillators[0].to_dbfs};
      if (levels[1] <= levels[0])
        throw Error(ErrorCode::bad_argument,
                    fmt::format("the level of the part '{}' does not rise", part.name));
      walk(capture, c, place(0), place(static_cast<double>(part.frames)), step, levels, channel);
    }
    finish(channel);
    if (channel.measured) judge_levels(options, channel);
    result.channels.push_back(std::move(channel));
  }
  return result;
}

ClippingResult measure_clipping_by_hand(const JudgedCapture& judged, double tone_hz,
                                        const ClippingOptions& options) {
  AudioSource& capture = judged.source();
  require_valid(options);
  const FrameRange range = frame_range(capture, options.from_s, options.to_s);
  ClippingResult result{options, "", capture.sample_rate_hz(), tone_hz, {}};
  const double step = 2 * std::numbers::pi * tone_hz / capture.sample_rate_hz();
  for (int c = 0; c < capture.channel_count(); ++c) {
    ChannelClipping channel;
    walk(capture, c, static_cast<double>(range.first), static_cast<double>(range.end), step, nullptr,
         channel);
    finish(channel);
    if (channel.measured) judge_times(options, channel);
    result.channels.push_back(std::move(channel));
  }
  return result;
}

}  // namespace wavicon
