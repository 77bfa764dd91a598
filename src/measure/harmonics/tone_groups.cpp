// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/tone_groups.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "measure/common/density.hpp"
#include "measure/common/frame_range.hpp"
#include "measure/common/line_spectrum.hpp"
#include "measure/harmonics/harmonics_of.hpp"
#include "measure/harmonics/methods.hpp"
#include "measure/harmonics/steady_tone.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr std::size_t kLongestWindow = std::size_t{1} << 20;  // frames: longer ones cost more than they tell
constexpr double kFoundWithin = 0.01;                         // of the frequency that was asked for
constexpr double kLineStandsOut = 10;      // power over the lobe's noise from which a tone is there
constexpr double kModulationLevel = 1.99;  // amplitude of the lower tone over the upper one
constexpr double kModulationSpan = 4;      // frequencies

void require_valid(const Audio& audio, const ToneGroupOptions& options) {
  auto fail = [](const std::string& message) { throw Error(ErrorCode::bad_argument, message); };
  const double half_rate_hz = audio.sample_rate_hz() / 2;
  if (options.tones_hz.size() < 2 || options.tones_hz.size() > 200)
    fail(fmt::format("{} tones are not within 2 to 200", options.tones_hz.size()));
  if (!std::is_sorted(options.tones_hz.begin(), options.tones_hz.end()))
    fail("the tones have to be given by rising frequency");
  for (const double hz : options.tones_hz)
    if (!(hz > 0 && hz < half_rate_hz))
      fail(fmt::format("tone {} Hz is not above 0 and below half the sample rate ({} Hz)", hz, half_rate_hz));
  if (!options.played_dbfs.empty() && options.played_dbfs.size() != options.tones_hz.size())
    fail("a level is needed for each tone, or for none");
  if (options.highest_order < 2 || options.highest_order > 9)
    fail(fmt::format("highest order {} is not within 2 to 9", options.highest_order));
  if (!(options.band_from_hz >= 0 && options.band_to_hz > options.band_from_hz &&
        options.band_from_hz < half_rate_hz))
    fail(fmt::format("the band from {} to {} Hz is empty", options.band_from_hz, options.band_to_hz));
  double closest = options.tones_hz.front();
  for (std::size_t i = 1; i < options.tones_hz.size(); ++i)
    closest = std::min(closest, options.tones_hz[i] - options.tones_hz[i - 1]);
  const double needed_s = 2 * kLobeHalfBins / closest;
  if (audio.seconds() < needed_s)
    throw Error(ErrorCode::bad_input,
                fmt::format("{:.3g} s are too short to tell tones {:g} Hz apart: {:.3g} s are needed",
                            audio.seconds(), closest, needed_s));
}

// Every product of a pair up to an order: each once, the harmonics of either tone included.
std::vector<ToneProduct> products_of(double lower_hz, double upper_hz, int highest, double rate,
                                     double resolution_hz) {
  std::vector<ToneProduct> products;
  for (int order = 2; order <= highest; ++order)
    for (int upper = 0; upper <= order; ++upper)
      for (const int sign : {-1, 1}) {
        const int lower = sign * (order - upper);
        if ((upper == 0 || lower == 0) && sign < 0) continue;
        const double signed_hz = lower * lower_hz + upper * upper_hz, hz = std::abs(signed_hz);
        const int turn = signed_hz < 0 ? -1 : 1;
        products.push_back(
            {turn * lower, turn * upper, folded_hz(hz, rate), 0, 0, false, hz > rate / 2, false});
      }
  for (ToneProduct& p : products) {
    const auto near = [&](double hz) { return std::abs(p.hz - hz) < resolution_hz; };
    p.hidden = near(0) || near(rate / 2) || near(lower_hz) || near(upper_hz);
    for (const ToneProduct& other : products)
      // The lower order is the stronger one as a rule; two of the same order hide each other.
      p.hidden |= &other != &p && near(other.hz) &&
                  std::abs(other.lower) + std::abs(other.upper) <= std::abs(p.lower) + std::abs(p.upper);
  }
  return products;
}

const ToneProduct& product_at(const ChannelTones& channel, int lower, int upper) {
  for (const ToneProduct& p : channel.products)
    if ((p.lower == lower && p.upper == upper) || (p.lower == -lower && p.upper == -upper)) return p;
  static const ToneProduct none{0, 0, 0, 0, 0, true, false, true};
  return none;
}

struct Sum {
  double amplitude = 0;
  bool bound = false;
};

// Sum of the amplitudes of a pair of products. One that is only bounded counts with its noise; when both are,
// the sum is a bound.
Sum sum_of(const ToneProduct& a, const ToneProduct& b) {
  if (a.bound && b.bound) return {a.amplitude + b.amplitude, true};
  return {(a.bound ? 0 : a.amplitude) + (b.bound ? 0 : b.amplitude), false};
}

void form_ratios(ChannelTones& channel) {
  const GroupTone &f1 = channel.tones[0], &f2 = channel.tones[1];
  channel.modulation = f1.amplitude >= kModulationLevel * f2.amplitude && f2.hz >= kModulationSpan * f1.hz;
  const Sum second = channel.modulation
                         ? sum_of(product_at(channel, -1, 1), product_at(channel, 1, 1))
                         : Sum{product_at(channel, -1, 1).amplitude, product_at(channel, -1, 1).bound};
  const Sum third = channel.modulation ? sum_of(product_at(channel, -2, 1), product_at(channel, 2, 1))
                                       : sum_of(product_at(channel, 2, -1), product_at(channel, -1, 2));
  const double over = channel.modulation ? f2.amplitude : f1.amplitude + f2.amplitude;
  channel.second = second.amplitude / over;
  channel.third = third.amplitude / over;
  // Of the amplitudes that were added, and of the tones below them.
  const auto sure = [&](std::initializer_list<std::pair<int, int>> which, double sum, double over_db) {
    double squares = 0;
    for (const auto& [lower, upper] : which) {
      const ToneProduct p = product_at(channel, lower, upper);
      squares += std::pow(p.bound ? 0 : p.amplitude * p.uncertainty_db, 2);
    }
    return sum > 0 ? std::hypot(std::sqrt(squares) / sum, over_db) : 0;
  };
  const double over_db = std::hypot(f1.uncertainty_db, f2.uncertainty_db);
  channel.second_uncertainty_db = channel.modulation
                                      ? sure({{-1, 1}, {1, 1}}, second.amplitude, f2.uncertainty_db)
                                      : sure({{-1, 1}}, second.amplitude, over_db);
  channel.third_uncertainty_db = channel.modulation
                                     ? sure({{-2, 1}, {2, 1}}, third.amplitude, f2.uncertainty_db)
                                     : sure({{2, -1}, {-1, 2}}, third.amplitude, over_db);
  channel.second_bound = second.bound;
  channel.third_bound = third.bound;
}

// Where the tones really are, near the frequencies asked for.
void find_tones(LineSpectrum& spectrum, const ToneGroupOptions& options, ChannelTones& channel) {
  for (std::size_t i = 0; i < options.tones_hz.size(); ++i) {
    const double hz = options.tones_hz[i];
    double reach = std::max(kFoundWithin * hz, 2 * spectrum.hz_per_bin());
    if (i > 0) reach = std::min(reach, 0.4 * (hz - options.tones_hz[i - 1]));
    if (i + 1 < options.tones_hz.size()) reach = std::min(reach, 0.4 * (options.tones_hz[i + 1] - hz));
    channel.tones.push_back({.hz = spectrum.refine_hz(hz, reach)});
  }
}

// Tones that do not stand out of the noise are missing.
void read_tones(LineSpectrum& spectrum, const std::vector<double>& lines, ChannelTones& channel) {
  for (GroupTone& tone : channel.tones) {
    const double noise =
        spectrum.noise_power_per_bin(tone.hz, lines) * static_cast<double>(spectrum.lobe_bins(tone.hz));
    const double lobe = spectrum.lobe_power(tone.hz);
    if (lobe < kLineStandsOut * noise || lobe < 1e-28) {
      channel.missing_hz.push_back(tone.hz);
    } else {
      tone.amplitude = std::sqrt(lobe - noise);
      tone.uncertainty_db = line_uncertainty_db(lobe - noise, (lobe - noise) * noise, noise * noise,
                                                static_cast<int>(spectrum.windowing().count));
    }
  }
}

void read_products(LineSpectrum& spectrum, const std::vector<double>& lines, std::size_t frames,
                   ChannelTones& channel) {
  double loudest = 0;
  for (const GroupTone& tone : channel.tones) loudest = std::max(loudest, tone.amplitude);
  std::vector<double> at;
  for (const ToneProduct& p : channel.products) at.push_back(p.hz);
  const auto powers = spectrum.powers_at(at, kLineBeta);
  const double rounding = std::pow(loudest * 0x1p-53, 2) / static_cast<double>(frames);
  for (std::size_t i = 0; i < channel.products.size(); ++i) {
    ToneProduct& p = channel.products[i];
    const double noise =
        std::max(rounding, spectrum.noise_power_per_bin(p.hz, lines) * spectrum.line_noise(kLineBeta));
    HarmonicOrder level;
    set_level(level, powers[i], noise, static_cast<int>(spectrum.windowing().count));
    p.amplitude = p.hidden ? 0 : level.amplitude;
    p.bound = level.bound || p.hidden;
    p.noise_amplitude = level.noise_amplitude;
    p.uncertainty_db = level.uncertainty_db;
  }
}

ChannelTones measure_channel(std::span<const double> samples, double rate, const ToneGroupOptions& options,
                             double band_to_hz, SpectralTools& tools) {
  ChannelTones channel;
  if (peak(samples) == 0) {
    channel.state = ChannelTones::State::silent;
    return channel;
  }
  LineSpectrum spectrum(samples, rate, divide(samples.size(), kLongestWindow), tools);
  find_tones(spectrum, options, channel);
  std::vector<double> places{0.0};
  for (const GroupTone& tone : channel.tones) places.push_back(tone.hz);
  const bool pair = channel.tones.size() == 2;
  if (pair)
    channel.products = products_of(channel.tones[0].hz, channel.tones[1].hz, options.highest_order, rate,
                                   spectrum.lobe_half_hz());
  std::vector<double> lines = places;
  for (const ToneProduct& p : channel.products) lines.push_back(p.hz);
  std::sort(lines.begin(), lines.end());

  read_tones(spectrum, lines, channel);
  if (channel.missing_hz.size() == channel.tones.size() || (pair && !channel.missing_hz.empty())) {
    channel.state = ChannelTones::State::no_tones;
    return channel;
  }
  double power = 0;
  for (const GroupTone& tone : channel.tones) power += tone.amplitude * tone.amplitude / 2;
  read_products(spectrum, lines, samples.size(), channel);
  if (pair) form_ratios(channel);
  channel.rest_ratio =
      std::sqrt(spectrum.band_power(options.band_from_hz, band_to_hz, places, lines) / 2 / power);
  channel.noise_rms = std::sqrt(spectrum.band_power(options.band_from_hz, band_to_hz, lines, lines) / 2);
  const PowerSpread chance = spectrum.spread();
  const auto uncertainty_db = [&](const std::vector<double>& without) {
    std::vector<double> density = spectrum.power_without(without, lines),
                        noise = without_lines(spectrum.power_without(lines, lines),
                                              static_cast<std::size_t>(kNoiseBlockLobes * 2 * kLobeHalfBins *
                                                                       spectrum.padding()));
    for (std::vector<double>* values : {&density, &noise})
      for (double& v : *values) v /= 2 * spectrum.hz_per_bin();
    return chance.uncertainty_db(density, noise, spectrum.hz_per_bin(), options.band_from_hz, band_to_hz,
                                 unweighted);
  };
  channel.rest_uncertainty_db = uncertainty_db(places);
  channel.noise_uncertainty_db = uncertainty_db(lines);
  spectrum.draw(channel.spectrum_hz, channel.spectrum_amplitude);
  return channel;
}

ChannelTones measure_floor(const ChannelTones& channel, std::int64_t frames, double rate,
                           const ToneGroupOptions& options, SampleFormat format, double band_to_hz,
                           SpectralTools& tools) {
  std::vector<double> clean(static_cast<std::size_t>(frames), 0.0), tone(clean.size());
  double sum = 0;
  for (const GroupTone& t : channel.tones) sum += t.amplitude;
  // Clean tones may crest higher than what was captured; the format has to hold them.
  const double scale = is_integer(format) && sum > 0.999 ? 0.999 / sum : 1.0;
  for (const GroupTone& t : channel.tones) {
    if (t.amplitude == 0) continue;
    render({.sample_rate_hz = rate,
            .frequency_hz = t.hz,
            .level_dbfs = db_from_ratio(t.amplitude * scale),
            .seconds = static_cast<double>(frames) / rate},
           0, tone);
    for (std::size_t n = 0; n < clean.size(); ++n) clean[n] += tone[n];
  }
  const Quantiser quantiser(format, true, 1);
  for (std::size_t n = 0; n < clean.size(); ++n)
    clean[n] = quantiser.value(clean[n], 0, static_cast<std::int64_t>(n));
  ToneGroupOptions known = options;
  for (std::size_t i = 0; i < channel.tones.size(); ++i) known.tones_hz[i] = channel.tones[i].hz;
  return measure_channel(clean, rate, known, band_to_hz, tools);
}

}  // namespace

std::string product_name(const ToneProduct& product) {
  std::string text;
  auto add = [&](int times, const char* tone) {
    if (times == 0) return;
    if (!text.empty()) text += times < 0 ? " - " : " + ";
    text += fmt::format("{}{}", std::abs(times) == 1 ? "" : fmt::format("{}·", std::abs(times)), tone);
  };
  // The positive one first.
  if (product.lower > 0 && product.upper <= 0) {
    add(product.lower, "f1");
    add(product.upper, "f2");
  } else {
    add(product.upper, "f2");
    add(product.lower, "f1");
  }
  return text;
}

ToneGroupResult measure_detail::tone_group_of(const Audio& audio, const ToneGroupOptions& options,
                                              SampleFormat format, double audio_starts_s) {
  require_measurable(audio);
  require_valid(audio, options);
  ToneGroupResult result{options,
                         format,
                         audio_starts_s,
                         audio.sample_rate_hz(),
                         audio.seconds(),
                         std::min(options.band_to_hz, audio.sample_rate_hz() / 2),
                         {},
                         {}};
  SpectralTools tools;
  bool measured = false;
  for (int c = 0; c < audio.channel_count(); ++c) {
    result.channels.push_back(
        measure_channel(audio.channel(c), audio.sample_rate_hz(), options, result.band_to_hz, tools));
    const ChannelTones& channel = result.channels.back();
    const bool good = channel.state == ChannelTones::State::measured;
    measured |= good;
    result.floors.push_back(good ? measure_floor(channel, audio.frames(), audio.sample_rate_hz(), options,
                                                 format, result.band_to_hz, tools)
                                 : channel);
  }
  if (!measured)
    throw Error(ErrorCode::bad_input,
                fmt::format("the tones ({:g}, {:g} Hz{}) do not stand out of the noise", options.tones_hz[0],
                            options.tones_hz[1], options.tones_hz.size() > 2 ? " …" : ""));
  return result;
}

ToneGroupResult measure_tone_group(const JudgedCapture& capture, const ToneGroupOptions& options) {
  const auto range = measure_detail::frame_range(capture.source(), options.from_s, options.to_s);
  return measure_detail::tone_group_of(read_stretch(capture.source(), range.first, range.frames()), options,
                                       capture.format(),
                                       static_cast<double>(range.first) / capture.sample_rate_hz());
}

}  // namespace wavicon
