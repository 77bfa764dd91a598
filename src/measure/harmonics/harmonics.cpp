// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/harmonics.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "measure/harmonics/harmonics_of.hpp"
#include "measure/harmonics/methods.hpp"
#include "measure/harmonics/steady_tone.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace wavicon {
namespace measure_detail {

namespace {
constexpr std::int64_t kLeastFrames = 4;  // of anything that swings
constexpr double kNothing = 1e-100;       // full scale = 1: squares vanish below it
// The noise of an order is estimated from some 20 independent bins beside it: the power of chance over it has
// the F distribution of 2 and 40, which passes 20 ((1 + x/20)^-20) once in a million orders.
constexpr double kBoundWithin = 20;
// The same, once in 33 000, as an amplitude: sqrt(20 (33000^(1/20) - 1)).
constexpr double kFarthestChance = 3.7;
constexpr double kMostShare = 0.9;  // of its power by which a line can be too high
constexpr std::size_t kFewPlaces = 128;
constexpr std::size_t kOftenEach = 4;    // samples on each of them
constexpr double kBelowHalf = 1 - 1e-6;  // an order at half the rate has no phase
constexpr int kPeriodBits = 9;
constexpr std::size_t kPeriodPlaces = std::size_t{1} << kPeriodBits;  // slots of a table of sample values
}  // namespace

double folded_hz(double hz, double sample_rate_hz) {
  const double rest = std::fmod(hz, sample_rate_hz);
  return std::min(rest, sample_rate_hz - rest);
}

std::vector<HarmonicOrder> place_orders(double fundamental_hz, double sample_rate_hz, int highest,
                                        double resolution_hz) {
  std::vector<HarmonicOrder> orders;
  for (int k = 2; k <= highest; ++k) {
    HarmonicOrder order;
    order.order = k;
    order.folded = k * fundamental_hz > sample_rate_hz / 2;
    order.at_hz = folded_hz(k * fundamental_hz, sample_rate_hz);
    orders.push_back(order);
  }
  for (HarmonicOrder& order : orders) {
    order.hidden = order.at_hz < resolution_hz || order.at_hz > sample_rate_hz / 2 - resolution_hz;
    if (!order.folded) continue;
    // A folded product gives way to the true harmonic it falls on; two folded ones that meet hide each other.
    for (int k = 1; k * fundamental_hz < sample_rate_hz / 2; ++k)
      order.hidden |= std::abs(order.at_hz - k * fundamental_hz) < resolution_hz;
    for (const HarmonicOrder& other : orders)
      order.hidden |=
          other.folded && other.order != order.order && std::abs(order.at_hz - other.at_hz) < resolution_hz;
  }
  return orders;
}

// Noise beside a line of amplitude A turns its power by 2A times what it holds in phase, half of its own
// power.
double line_uncertainty_db(double power, double beside, double squares, int windows) {
  if (!(power > 0)) return 0;
  // In decibels the way down is the longer one.
  const double share = 2 * std::sqrt((2 * beside + squares) / windows) / power;
  return -kDbOfPowerShare * std::log1p(-std::min(kMostShare, share));
}

void set_level(HarmonicOrder& order, double raw_power, double noise_power, int windows) {
  order.raw_amplitude = std::sqrt(std::max(0.0, raw_power));
  order.noise_amplitude = std::sqrt(noise_power);
  order.bound = raw_power < kBoundWithin * noise_power;
  if (!order.bound) {
    const double power = raw_power - noise_power;
    order.uncertainty_db =
        line_uncertainty_db(power, power * noise_power, noise_power * noise_power, windows);
  }
  order.amplitude = order.bound ? order.raw_amplitude + kFarthestChance * order.noise_amplitude
                                : std::sqrt(raw_power - noise_power);
}

// Where the period is a few frames long, all samples fall on a few places: between them goes the sum of the
// orders below half the rate, not a straight line with corners at the crests.
void smooth_period(double orders_below_half, ChannelHarmonics& channel) {
  const std::size_t count = channel.period.size();
  const auto orders = static_cast<std::size_t>(
      std::min(std::floor(orders_below_half), std::floor((static_cast<double>(count) - 1) / 2)));
  if (count >= kFewPlaces || orders < 1) return;
  const std::size_t size = 2 * orders + 1;
  const auto terms_at = [&](double deg) {
    std::vector<double> terms = {1};
    for (std::size_t k = 1; k <= orders; ++k) {
      const double turn = static_cast<double>(k) * deg / 180 * std::numbers::pi;
      terms.push_back(std::cos(turn));
      terms.push_back(std::sin(turn));
    }
    return terms;
  };
  std::vector<double> matrix(size * size, 0.0), right(size, 0.0);
  for (std::size_t i = 0; i < count; ++i) {
    const std::vector<double> terms = terms_at(channel.period_deg[i]);
    for (std::size_t r = 0; r < size; ++r) {
      right[r] += terms[r] * channel.period[i];
      for (std::size_t c = 0; c <= r; ++c) matrix[r * size + c] += terms[r] * terms[c];
    }
  }
  const SymmetricSystem system(matrix, size);
  if (!system.well_posed()) return;
  const std::vector<double> weights = system.solve(right);
  channel.period_deg.clear();
  channel.period.clear();
  for (std::size_t i = 0; i <= kPeriodPlaces; ++i) {
    const double deg = 360 * static_cast<double>(i) / static_cast<double>(kPeriodPlaces);
    const std::vector<double> terms = terms_at(deg);
    channel.period_deg.push_back(deg);
    channel.period.push_back(std::inner_product(terms.begin(), terms.end(), weights.begin(), 0.0));
  }
}

void fold_to_period(std::span<const double> stretch, double sample_rate_hz, double tone_phase,
                    ChannelHarmonics& channel) {
  const Phase step = phase_step(channel.fundamental_hz, sample_rate_hz);
  // A sine lies a quarter of a cycle behind its cosine.
  Phase phase = phase_from_cycles(tone_phase / (2 * std::numbers::pi) + 0.25);
  struct Place {
    double at = 0, sum = 0, count = 0;
  };
  std::vector<Place> places(kPeriodPlaces);
  for (const double x : stretch) {
    Place& place = places[static_cast<std::size_t>(phase >> (64 - kPeriodBits))];
    place.at += std::ldexp(static_cast<double>(phase >> 11), -53);
    place.sum += x;
    place.count += 1;
    phase += step;
  }
  for (const Place& place : places) {
    if (place.count == 0) continue;
    channel.period_deg.push_back(360 * place.at / place.count);
    channel.period.push_back(place.sum / place.count);
  }
  if (stretch.size() >= kOftenEach * channel.period.size())
    smooth_period(kBelowHalf * sample_rate_hz / (2 * channel.fundamental_hz), channel);
}

void set_thd(ChannelHarmonics& channel) {
  double power = 0, raw = 0, noise = 0, bounds = 0, beside = 0, squares = 0;
  channel.has_thd = false;
  for (const HarmonicOrder& order : channel.orders) {
    if (order.hidden) continue;
    channel.has_thd = true;
    const double noise_power = order.noise_amplitude * order.noise_amplitude;
    power += order.raw_amplitude * order.raw_amplitude - noise_power;
    raw += order.raw_amplitude * order.raw_amplitude;
    noise += noise_power;
    beside += std::max(0.0, order.raw_amplitude * order.raw_amplitude - noise_power) * noise_power;
    squares += noise_power * noise_power;
    bounds += order.bound ? noise_power : 0.0;
  }
  // A bound where the orders that could not be read might make up a tenth of the whole power.
  channel.thd_bound = raw < kBoundWithin * noise || power < kBoundWithin * bounds;
  const double amplitude = channel.thd_bound ? std::sqrt(raw) + kFarthestChance * std::sqrt(noise)
                                             : std::sqrt(std::max(0.0, power));
  channel.thd_ratio = amplitude / channel.fundamental_amplitude;
  if (!channel.thd_bound)
    channel.thd_uncertainty_db = std::hypot(line_uncertainty_db(power, beside, squares, channel.window_count),
                                            channel.fundamental_uncertainty_db);
}

}  // namespace measure_detail

namespace {

using namespace measure_detail;

void require_valid(const HarmonicsOptions& options, double rate, std::int64_t frames) {
  auto fail = [](const std::string& message) { throw Error(ErrorCode::bad_argument, message); };
  const double half_rate_hz = rate / 2, seconds = static_cast<double>(frames) / rate;
  if (options.tone_hz && !(*options.tone_hz > 0 && *options.tone_hz < half_rate_hz))
    fail(fmt::format("tone {} Hz is not above 0 and below half the sample rate ({} Hz)", *options.tone_hz,
                     half_rate_hz));
  if (options.highest_order < 2 || options.highest_order > 100)
    fail(fmt::format("highest order {} is not within 2 to 100", options.highest_order));
  if (!(options.band_from_hz >= 0 && options.band_to_hz > options.band_from_hz &&
        options.band_from_hz < half_rate_hz))
    fail(
        fmt::format("band {} to {} Hz: the lower end has to be at or above 0, below the upper end and below "
                    "half the sample rate",
                    options.band_from_hz, options.band_to_hz));
  const double to_s = options.to_s.value_or(seconds);
  if (!(options.from_s >= 0 && to_s > options.from_s && to_s <= seconds + 0.5 / rate))
    fail(fmt::format("stretch from {} s to {} s is not within the capture (0 to {} s)", options.from_s, to_s,
                     seconds));
}

ChannelHarmonics measure_stretch(std::span<const double> stretch, double sample_rate_hz, double rough_hz,
                                 const HarmonicsOptions& options, SpectralTools& tools) {
  const double periods = rough_hz * static_cast<double>(stretch.size()) / sample_rate_hz;
  if (periods < kRoughPeriodsAtLeast)
    throw Error(
        ErrorCode::bad_input,
        fmt::format(
            "{:.2f} periods of a {:.4g} Hz tone are too few to tell its harmonics apart: at least {} are "
            "needed, {} or more are better",
            periods, rough_hz, kPeriodsAtLeast, kPeriodsForLines));
  return periods < kPeriodsForLines ? measure_by_joint_fit(stretch, sample_rate_hz, rough_hz, options)
                                    : measure_by_lines(stretch, sample_rate_hz, rough_hz, options, tools);
}

// The same computation on a clean tone of that frequency, level and length, as the capture's format can hold
// it.
ChannelHarmonics measure_floor(const ChannelHarmonics& channel, double sample_rate_hz,
                               const HarmonicsOptions& options, SampleFormat format, SpectralTools& tools) {
  const Quantiser quantiser(format, true, 1);
  const double most = is_integer(format) ? 1.0 - std::ldexp(2.0, 1 - bits(format)) : 1e6;
  const ToneStimulus tone{.sample_rate_hz = sample_rate_hz,
                          .frequency_hz = channel.fundamental_hz,
                          .level_dbfs = db_from_ratio(std::min(channel.fundamental_amplitude, most)),
                          .seconds = static_cast<double>(channel.frames) / sample_rate_hz};
  std::vector<double> clean(static_cast<std::size_t>(channel.frames));
  render(tone, 0, clean);
  for (std::size_t n = 0; n < clean.size(); ++n)
    clean[n] = quantiser.value(clean[n], 0, static_cast<std::int64_t>(n));
  ChannelHarmonics floor = measure_stretch(clean, sample_rate_hz, channel.fundamental_hz, options, tools);
  // A floor is what would be read, not what could hide there: the larger of reading and noise.
  double thd = 0;
  for (HarmonicOrder& order : floor.orders) {
    order.amplitude = std::max(order.raw_amplitude, order.noise_amplitude);
    if (!order.hidden) thd += order.raw_amplitude * order.raw_amplitude;
  }
  floor.thd_ratio = std::sqrt(thd) / floor.fundamental_amplitude;
  return floor;
}

ChannelHarmonics measure_channel(std::span<const double> samples, const Audio& audio,
                                 const HarmonicsOptions& options, SpectralTools& tools) {
  ChannelHarmonics nothing;
  nothing.state = ChannelHarmonics::State::silent;
  if (peak(samples) < kNothing) return nothing;
  const auto tone = find_steady_tone(samples, audio.sample_rate_hz(), options.tone_hz, tools);
  if (!tone) {
    nothing.state = ChannelHarmonics::State::no_tone;
    return nothing;
  }
  const auto stretch =
      samples.subspan(static_cast<std::size_t>(tone->first_frame), static_cast<std::size_t>(tone->frames));
  ChannelHarmonics channel = measure_stretch(stretch, audio.sample_rate_hz(), tone->rough_hz, options, tools);
  channel.first_frame = tone->first_frame;
  channel.frames = tone->frames;
  channel.whole = tone->frames == static_cast<std::int64_t>(samples.size());
  return channel;
}

// Frames in runs of two or more that stand at the ends of an integer format: one alone is a peak, two are a
// cut one.
std::int64_t frames_at_ends(std::span<const double> samples, SampleFormat format) {
  if (!is_integer(format)) return 0;
  const double top = 1.0 - std::ldexp(1.0, 1 - bits(format));
  std::int64_t total = 0, run = 0;
  for (std::size_t i = 0; i <= samples.size(); ++i) {
    if (i < samples.size() && (samples[i] >= top || samples[i] <= -1.0)) {
      ++run;
    } else {
      if (run >= 2) total += run;
      run = 0;
    }
  }
  return total;
}

}  // namespace

HarmonicsResult measure_detail::harmonics_of(const Audio& audio, const HarmonicsOptions& options,
                                             SampleFormat format, double audio_starts_s) {
  require_measurable(audio);
  require_valid(options, audio.sample_rate_hz(), audio.frames());
  HarmonicsResult result{options, format, audio_starts_s, audio.sample_rate_hz(), audio.frames(), {}, {},
                         {},      {}};
  const auto first = static_cast<std::size_t>(std::min<double>(
      std::round(options.from_s * audio.sample_rate_hz()), static_cast<double>(audio.frames())));
  const auto end =
      options.to_s ? std::min(audio.frames(),
                              static_cast<std::int64_t>(std::llround(*options.to_s * audio.sample_rate_hz())))
                   : audio.frames();
  if (audio.frames() < kLeastFrames)
    throw Error(ErrorCode::bad_input,
                fmt::format("{} frame{} cannot hold a tone: at least {} periods are needed", audio.frames(),
                            audio.frames() == 1 ? "" : "s", kPeriodsAtLeast));
  bool sound = false, tone = false;
  SpectralTools tools;
  for (int c = 0; c < audio.channel_count(); ++c) {
    const auto samples = audio.channel(c).subspan(
        first, static_cast<std::size_t>(end) - std::min<std::size_t>(first, static_cast<std::size_t>(end)));
    ChannelHarmonics channel = measure_channel(samples, audio, options, tools);
    channel.first_frame += static_cast<std::int64_t>(first);
    sound |= channel.state != ChannelHarmonics::State::silent;
    ChannelHarmonics floor = channel;
    if (channel.state == ChannelHarmonics::State::measured)
      floor = measure_floor(channel, audio.sample_rate_hz(), options, format, tools);
    // A tone that the format itself cannot hold is none: it is what its dither looks like.
    if (floor.state != ChannelHarmonics::State::measured &&
        channel.state == ChannelHarmonics::State::measured)
      channel.state = floor.state = ChannelHarmonics::State::no_tone;
    tone |= channel.state == ChannelHarmonics::State::measured;
    result.floors.push_back(std::move(floor));
    result.channels.push_back(std::move(channel));
    result.peaks.push_back(peak(samples));
    result.held_frames.push_back(frames_at_ends(samples, format));
  }
  if (!sound)
    throw Error(ErrorCode::bad_input,
                "every sample is zero: silence has no harmonics; check the chain and the capture");
  if (!tone)
    throw Error(ErrorCode::bad_input,
                options.tone_hz
                    ? fmt::format("no steady tone stands out of the noise near {} Hz", *options.tone_hz)
                    : std::string("no steady tone stands out of the noise: harmonics need one; name it with "
                                  "--tone if there is"));
  return result;
}

HarmonicsResult measure_harmonics(const JudgedCapture& capture, const HarmonicsOptions& options) {
  AudioSource& source = capture.source();
  const double rate = source.sample_rate_hz();
  require_valid(options, rate, source.frames());
  // Nothing else than the stretch is held in memory.
  const std::int64_t first = std::llround(options.from_s * rate),
                     end = options.to_s
                               ? std::min<std::int64_t>(source.frames(), std::llround(*options.to_s * rate))
                               : source.frames();
  HarmonicsOptions of_stretch = options;
  of_stretch.from_s = 0;
  of_stretch.to_s.reset();
  return measure_detail::harmonics_of(read_stretch(source, first, end - first), of_stretch, capture.format(),
                                      static_cast<double>(first) / rate);
}

}  // namespace wavicon
