// SPDX-License-Identifier: MIT
#include "wavicon/measure/levels/levels.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>

#include "audio/wide.hpp"
#include "measure/common/frame_range.hpp"
#include "measure/levels/levels_of.hpp"
#include "measure/levels/loudness_meter.hpp"
#include "measure/levels/stretches.hpp"
#include "wavicon/audio/between_samples.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/read_ahead.hpp"
#include "wavicon/audio/student.hpp"
#include "wavicon/intake/stream_gate.hpp"

namespace wavicon {
namespace {

constexpr std::int64_t kBlock = 4096;  // frames summed at once, from the start on: they stay in the cache
constexpr double kShortTermS = 3, kStepS = 0.1;
constexpr std::size_t kMomentarySteps = 4, kShortTermSteps = 30;

constexpr std::size_t kApart = 4;  // momentary loudnesses that share no sound
constexpr double kStillLu = 3;     // either way
constexpr std::size_t kLeastApart = 8;
constexpr double kOfHighest = 1.75;  // deviations of the parts' own maxima

// Of values 0.1 s apart, each over so many steps: those that share no sound; none where they move.
std::vector<double> still_ones(const std::vector<double>& lufs, std::size_t apart) {
  std::vector<double> own;
  for (std::size_t i = 0; i < lufs.size(); i += apart) own.push_back(lufs[i]);
  if (own.size() < kLeastApart) return {};
  const auto [low, high] = std::minmax_element(own.begin(), own.end());
  if (!std::isfinite(*low) || *high - *low > 2 * kStillLu) return {};
  return own;
}

std::optional<double> uncertainty_of_power(const std::vector<double>& lufs) {
  std::vector<double> powers = still_ones(lufs, kApart);
  if (powers.empty()) return std::nullopt;
  double mean = 0;
  for (double& v : powers) mean += (v = power_ratio_from_db(v)) / static_cast<double>(powers.size());
  return kDbOfPowerShare * uncertainty_of_mean(powers) / mean;
}

// Of the highest, by how the highest of eight parts differ.
std::optional<double> uncertainty_of_highest(const std::vector<double>& lufs, std::size_t apart) {
  if (still_ones(lufs, apart).empty()) return std::nullopt;
  std::vector<double> highest(kLeastApart, -1e9);
  for (std::size_t i = 0; i < lufs.size(); ++i)
    highest[i * kLeastApart / lufs.size()] = std::max(highest[i * kLeastApart / lufs.size()], lufs[i]);
  return uncertainty_of_mean(highest) / student_k2(kLeastApart - 1) *
         std::sqrt(static_cast<double>(kLeastApart)) * kOfHighest;
}

// Sums in eight lanes: fast, and the same for any blocks that are multiples of eight.
struct Sums {
  double square = 0;
  double plain = 0;
  double highest = 0;
};

constexpr std::size_t kLanes = 4;  // doubles side by side
using Lanes = double __attribute__((vector_size(kLanes * sizeof(double))));

WAVICON_WIDE Sums sums_of(const double* x, std::size_t count) {
  Lanes square[2] = {}, plain[2] = {}, highest[2] = {}, lowest[2] = {};
  std::size_t n = 0;
  for (; n + 2 * kLanes <= count; n += 2 * kLanes)
    for (std::size_t half = 0; half < 2; ++half) {
      Lanes v;
      std::memcpy(&v, x + n + half * kLanes, sizeof v);
      square[half] += v * v;
      plain[half] += v;
      highest[half] = v > highest[half] ? v : highest[half];
      lowest[half] = v < lowest[half] ? v : lowest[half];
    }
  Sums sums;
  for (std::size_t half = 0; half < 2; ++half) {
    const auto &q = square[half], &p = plain[half];
    sums.square += (q[0] + q[1]) + (q[2] + q[3]);
    sums.plain += (p[0] + p[1]) + (p[2] + p[3]);
    for (std::size_t i = 0; i < kLanes; ++i)
      sums.highest = std::max({sums.highest, highest[half][i], -lowest[half][i]});
  }
  for (; n < count; ++n) {
    sums.square += x[n] * x[n];
    sums.plain += x[n];
    sums.highest = std::max(sums.highest, std::abs(x[n]));
  }
  return sums;
}

std::optional<double> finite(double lufs) {
  return std::isfinite(lufs) && lufs > -200 ? std::optional(lufs) : std::nullopt;
}

}  // namespace

struct LevelMeter::Impl {
  LevelsOptions options;
  SampleFormat format = SampleFormat::float64;
  double rate = 0;
  std::int64_t hop = 0;   // frames
  std::int64_t step = 0;  // frames between two looks at loudness
  std::int64_t frame = 0;
  std::vector<ChannelLevels> channels;
  std::vector<double> square, plain, hop_square;  // running sums of each channel
  std::optional<measure_detail::Stretches> stretches;
  std::vector<std::vector<double>> hops;               // Σx² of each hop
  std::optional<measure_detail::LoudnessMeter> meter;  ///< none: not asked for, or not defined at this rate
  std::vector<TruePeakMeter> true_peaks;               ///< of each channel; none when not asked for
  Loudness loudness;
  std::vector<double> after;       ///< of each channel: what lies behind a stretch of something longer
  std::optional<StreamGate> gate;  ///< none for samples whose capture has been judged
  bool finished = false;

  void take(std::span<const double> planar, std::size_t length) {
    for (std::size_t done = 0; done < length;) {
      const auto count = std::min({static_cast<std::int64_t>(length - done), hop - frame % hop,
                                   step - frame % step, stretches->left(), kBlock - frame % kBlock});
      take(planar, length, done, static_cast<std::size_t>(count));
      done += static_cast<std::size_t>(count);
    }
  }

  // A piece that crosses neither a hop nor a step of the loudness.
  void take(std::span<const double> planar, std::size_t length, std::size_t from, std::size_t count) {
    for (std::size_t c = 0; c < channels.size(); ++c) {
      const auto x = planar.subspan(c * length + from, count);
      const Sums sums = sums_of(x.data(), x.size());
      if (!std::isfinite(sums.square)) refuse(x, c);
      square[c] += sums.square;
      plain[c] += sums.plain;
      hop_square[c] += sums.square;
      channels[c].peak = std::max(channels[c].peak, sums.highest);
      stretches->add(c, sums.square, sums.plain, sums.highest);
    }
    stretches->advance(static_cast<std::int64_t>(count));
    if (meter) meter->add(planar, length, from, count);
    frame += static_cast<std::int64_t>(count);
    if (frame % hop == 0) end_hop();
    if (meter && frame % step == 0) look();
  }

  void end_hop() {
    for (std::size_t c = 0; c < channels.size(); ++c) hops[c].push_back(std::exchange(hop_square[c], 0.0));
  }

  void look() {
    meter->end_step();
    if (const auto lufs = meter->of_last(kMomentarySteps)) loudness.momentary_lufs.push_back(*lufs);
    if (const auto lufs = meter->of_last(kShortTermSteps)) loudness.short_term_lufs.push_back(*lufs);
  }

  [[noreturn]] void refuse(std::span<const double> x, std::size_t channel) const {
    const auto bad = std::find_if(x.begin(), x.end(), [](double v) { return !std::isfinite(v); });
    const auto at = frame + (bad - x.begin());
    throw Error(
        ErrorCode::bad_input,
        fmt::format("channel {} holds {} at frame {} ({:.6f} s): what wrote it has failed there", channel + 1,
                    bad == x.end() ? "values too large to be squared" : "NaN or infinity", at,
                    static_cast<double>(at) / rate));
  }

  void finish_channel(std::size_t c) {
    ChannelLevels& levels = channels[c];
    levels.rms = std::sqrt(square[c] / static_cast<double>(frame));
    levels.dc = plain[c] / static_cast<double>(frame);
    if (const auto of = stretches->uncertainty(c))
      levels.uncertainty = {kDbOfPowerShare * of->mean_square, db_from_ratio(1 + of->highest), of->mean};
    if (options.true_peak) {
      const std::size_t behind = after.size() / channels.size();
      const double highest =
          true_peaks[c].highest(std::span<const double>(after).subspan(c * behind, behind));
      levels.true_peak = std::max(highest, levels.peak);
    }
    const auto each =
        static_cast<std::size_t>(std::max<long>(1, std::lround(options.window_s / options.hop_s)));
    double sum = 0;
    for (std::size_t i = 0; i < hops[c].size(); ++i) {
      if (i + 1 < each) continue;
      sum = 0;
      for (std::size_t k = i + 1 - each; k <= i; ++k) sum += hops[c][k];
      levels.rms_over_time.push_back(
          std::sqrt(sum / static_cast<double>(each * static_cast<std::size_t>(hop))));
    }
  }
};

LevelMeter::LevelMeter(int channel_count, double sample_rate_hz, const LevelsOptions& options,
                       SampleFormat format, const GatePolicy& policy)
    : LevelMeter(channel_count, sample_rate_hz, options, Judged{}) {
  impl_->gate.emplace(channel_count, sample_rate_hz, format, policy);
  impl_->format = format;
}

LevelMeter::LevelMeter(int channel_count, double sample_rate_hz, const LevelsOptions& options, Judged)
    : impl_(std::make_unique<Impl>()) {
  auto fail = [](const std::string& what) { throw Error(ErrorCode::bad_argument, what); };
  if (!(options.window_s >= 0.001 && options.window_s <= 60))
    fail(fmt::format("a window of {} s is not within 0.001 to 60", options.window_s));
  if (!(options.hop_s >= 0.001 && options.hop_s <= options.window_s))
    fail(fmt::format("a hop of {} s is not within 0.001 to the window ({} s)", options.hop_s,
                     options.window_s));
  if (channel_count < 1) fail(fmt::format("{} channels: at least 1 is needed", channel_count));
  if (!(sample_rate_hz > 0) || !std::isfinite(sample_rate_hz))
    fail(fmt::format("sample rate {} Hz is not above 0", sample_rate_hz));
  Impl& impl = *impl_;
  impl.options = options;
  impl.rate = sample_rate_hz;
  impl.hop = std::max<std::int64_t>(1, std::llround(options.hop_s * sample_rate_hz));
  impl.step = std::max<std::int64_t>(1, std::llround(kStepS * sample_rate_hz));
  const auto count = static_cast<std::size_t>(channel_count);
  impl.channels.resize(count);
  impl.square.resize(count);
  impl.plain.resize(count);
  impl.hop_square.resize(count);
  impl.hops.resize(count);
  impl.stretches.emplace(count);
  if (options.true_peak) impl.true_peaks.assign(count, TruePeakMeter(sample_rate_hz));
  impl.loudness.defined = sample_rate_hz >= measure_detail::kLeastLoudnessRateHz;
  if (options.loudness && impl.loudness.defined) impl.meter.emplace(channel_count, sample_rate_hz);
}
LevelMeter::~LevelMeter() = default;
LevelMeter::LevelMeter(LevelMeter&&) noexcept = default;
LevelMeter& LevelMeter::operator=(LevelMeter&&) noexcept = default;

void LevelMeter::reserve(double seconds, std::int64_t block_frames) {
  Impl& impl = *impl_;
  const auto of = [&](std::int64_t frames) {
    return static_cast<std::size_t>(std::max(0.0, seconds) * impl.rate / static_cast<double>(frames)) + 2;
  };
  for (auto& hops : impl.hops) hops.reserve(of(impl.hop));
  impl.loudness.momentary_lufs.reserve(of(impl.step));
  impl.loudness.short_term_lufs.reserve(of(impl.step));
  if (impl.meter) impl.meter->reserve(of(impl.step));
  impl.stretches->reserve();
  for (TruePeakMeter& peaks : impl.true_peaks)
    peaks.reserve(static_cast<std::size_t>(std::max<std::int64_t>(1, block_frames)));
}

void LevelMeter::push(std::span<const double> planar) {
  Impl& impl = *impl_;
  if (impl.finished) throw Error(ErrorCode::bad_argument, "blocks cannot be pushed after finish()");
  if (planar.size() % impl.channels.size() != 0)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} samples are no whole number of frames of {} channels", planar.size(),
                            impl.channels.size()));
  if (impl.gate) impl.gate->push(planar);
  const std::size_t length = planar.size() / impl.channels.size();
  // The peaks of each channel by itself, and everything else.
  const auto take = [&](std::size_t part) {
    if (part == 0)
      impl.take(planar, length);
    else
      impl.true_peaks[part - 1].push(planar.subspan((part - 1) * length, length));
  };
  for_each_part(1 + impl.true_peaks.size(), length, std::cref(take));  // by reference: nothing is allocated
}

LevelsResult LevelMeter::finish() {
  Impl& impl = *impl_;
  if (std::exchange(impl.finished, true)) throw Error(ErrorCode::bad_argument, "finish() was called before");
  if (impl.frame == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  std::vector<Finding> findings;
  if (impl.gate) findings = impl.gate->finish();
  for (std::size_t c = 0; c < impl.channels.size(); ++c) impl.finish_channel(c);
  Loudness& l = impl.loudness;
  if (impl.meter) {
    l.integrated_lufs = impl.meter->integrated_lufs();
    const bool long_enough = static_cast<double>(impl.frame) / impl.rate >= kShortTermS;
    if (long_enough && l.integrated_lufs) l.range_lu = impl.meter->range_lu();
    auto highest = [](const std::vector<double>& values) {
      return values.empty() ? std::nullopt : finite(*std::max_element(values.begin(), values.end()));
    };
    l.momentary_max_lufs = highest(l.momentary_lufs);
    l.short_term_max_lufs = highest(l.short_term_lufs);
    l.integrated_uncertainty_lu = uncertainty_of_power(l.momentary_lufs);
    l.momentary_max_uncertainty_lu = uncertainty_of_highest(l.momentary_lufs, kApart);
    l.short_term_max_uncertainty_lu =
        uncertainty_of_highest(l.short_term_lufs, static_cast<std::size_t>(kShortTermS / kStepS));
  }
  return {impl.options,
          impl.format,
          impl.rate,
          impl.frame,
          static_cast<double>(impl.hop) / impl.rate,
          std::move(impl.channels),
          std::move(l),
          std::move(findings)};
}

LevelsResult measure_detail::levels_of(AudioSource& source, const LevelsOptions& options) {
  const auto range = measure_detail::frame_range(source, options.from_s, options.to_s);
  LevelMeter meter(source.channel_count(), source.sample_rate_hz(), options, LevelMeter::Judged{});
  const auto channels = static_cast<std::size_t>(source.channel_count());
  // A stretch of something longer does not begin and end with silence.
  std::vector<double> around(kBetweenReach * channels);
  if (options.true_peak) {
    source.read(range.first - static_cast<std::int64_t>(kBetweenReach), around);
    for (std::size_t c = 0; c < channels; ++c)
      meter.impl_->true_peaks[c].lead_in(
          std::span<const double>(around).subspan(c * kBetweenReach, kBetweenReach));
  }
  for_each_block_ahead(
      source, range.first, range.end, kBlock,
      [&](std::int64_t, std::span<const double> planar, std::int64_t) { meter.push(planar); });
  if (options.true_peak) {
    source.read(range.end, around);
    meter.impl_->after = around;
  }
  return meter.finish();
}

LevelsResult measure_levels(const JudgedCapture& capture, const LevelsOptions& options) {
  LevelsResult result = measure_detail::levels_of(capture.source(), options);
  result.format = capture.format();
  return result;
}

}  // namespace wavicon
