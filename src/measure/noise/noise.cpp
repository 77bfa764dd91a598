// SPDX-License-Identifier: MIT
#include "wavicon/measure/noise/noise.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/density.hpp"
#include "measure/common/mains.hpp"
#include "measure/common/power_spread.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/decimator.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/weighting.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kWindowS = 0.34;
constexpr double kOverlap = 0.75;  // of a window with the next: nothing is passed over
constexpr double kBeta = 20;       // of the Kaiser window: side lobes at -155 dB
constexpr double kShortestS = 0.05;
constexpr double kToneReach = 0.03;       // of the frequency that is named: how far off the tone may be
constexpr double kToneStandsOut = 1e4;    // power: 40 dB over what lies around it
constexpr double kHarmonicStandsOut = 4;  // 6 dB
constexpr double kSpurStandsOut = 31.6;   // 15 dB
constexpr std::size_t kMostSpurs = 10;    // lines that are named: the strongest
constexpr int kMostHarmonics = 200;       // of the tone that are cut out
constexpr double kMainsS = 30;            // looked at, at most
constexpr double kMainsLowHz = 4000;
constexpr double kMainsCutoff = 0.35;  // of the lower rate
constexpr double kMainsLeastS = 1;
constexpr std::int64_t kLookedAt = 16;  // windows in which a tone is looked for early
constexpr std::int64_t kOfThem = 4;     // one of so many at most
constexpr double kBandsPerOctave = 24;  // of the density's curve

// The mains keep their frequency within a percent; a tone beside them is a tone.
bool is_mains(double hz) {
  constexpr double kWithin = 0.01;
  for (const double base : {50.0, 60.0})
    for (int k = 1; k <= 6; ++k)
      if (std::abs(hz - k * base) < kWithin * k * base) return true;
  return false;
}

// The bin of the tone to be cut out; 0 for none.
std::size_t tone_bin(const Density& density, const NoiseOptions& options, double lobe_hz) {
  if (options.keep_tone) return 0;
  if (const auto wanted = options.tone_hz ? options.tone_hz : options.played_tone_hz) {
    const std::size_t bin = density.crest(*wanted, std::max(lobe_hz / 2, kToneReach * *wanted));
    return density.values()[bin] > kSpurStandsOut * density.around(density.exact_hz(bin)) ? bin : 0;
  }
  const auto& values = density.values();
  const auto first = static_cast<std::size_t>(std::ceil(lobe_hz / density.bin_hz()));
  std::size_t best = 0;
  for (std::size_t b = std::max<std::size_t>(1, first); b + 1 < values.size(); ++b)
    if ((best == 0 || values[b] > values[best]) && values[b] >= values[b - 1] && values[b] >= values[b + 1] &&
        !is_mains(density.exact_hz(b)))
      best = b;
  if (best == 0) return 0;
  return values[best] > kToneStandsOut * density.around(static_cast<double>(best) * density.bin_hz()) ? best
                                                                                                      : 0;
}

void cut_harmonics(Density& density, double tone_hz, double below_hz) {
  for (int k = 2; k <= kMostHarmonics && k * tone_hz < below_hz; ++k) {
    const std::size_t bin = density.crest(k * tone_hz, 2 * density.bin_hz());
    if (density.values()[bin] > kHarmonicStandsOut * density.around(k * tone_hz)) density.cut(k * tone_hz);
  }
}

std::vector<SpurLine> spurs_of(const Density& density, const ChannelNoise& channel,
                               const NoiseOptions& options, double band_to_hz, double lobe_hz) {
  std::vector<SpurLine> spurs;
  const auto& values = density.values();
  for (std::size_t b = 2; b + 2 < values.size(); ++b) {
    const double hz = static_cast<double>(b) * density.bin_hz();
    if (hz < options.band_from_hz || hz > band_to_hz || values[b] < values[b - 1] ||
        values[b] <= values[b + 1])
      continue;
    if (channel.mains_hz &&
        std::abs(hz - *channel.mains_hz * std::round(hz / *channel.mains_hz)) < lobe_hz / 2 &&
        hz < 12 * *channel.mains_hz)
      continue;
    if (values[b] < kSpurStandsOut * density.around(hz)) continue;
    const double exact = density.exact_hz(b);
    spurs.push_back({exact, std::sqrt(2 * density.line_power(exact))});
  }
  std::sort(spurs.begin(), spurs.end(), [](const SpurLine& a, const SpurLine& b) { return a.peak > b.peak; });
  // What lies in the lobe of a stronger one is the same line.
  std::vector<SpurLine> apart;
  for (const SpurLine& spur : spurs)
    if (apart.size() < kMostSpurs && std::none_of(apart.begin(), apart.end(), [&](const SpurLine& s) {
          return std::abs(s.hz - spur.hz) < lobe_hz;
        }))
      apart.push_back(spur);
  return apart;
}

void add_density(const Density& density, double half_rate, ChannelNoise& channel) {
  const double step = std::exp2(1 / kBandsPerOctave);
  for (double low = 5; low * step <= half_rate; low *= step) {
    const double high = std::max(low * step, low + density.bin_hz());
    channel.density_hz.push_back(std::sqrt(low * low * step));
    channel.density.push_back(
        std::sqrt(band_power(density.values(), density.bin_hz(), low, high, unweighted) / (high - low)));
  }
}

void add_mains(AudioSource& source, const FrameRange& range, std::vector<ChannelNoise>& channels) {
  const double rate = source.sample_rate_hz();
  const auto frames = std::min(range.frames(), static_cast<std::int64_t>(kMainsS * rate));
  if (static_cast<double>(frames) < kMainsLeastS * rate) return;
  const Decimator decimate(std::max<std::size_t>(1, static_cast<std::size_t>(rate / kMainsLowHz)),
                           kMainsCutoff);
  const double low_hz = rate / static_cast<double>(decimate.step());
  constexpr std::int64_t kPiece = 1 << 16;
  const std::int64_t piece =
      kPiece / static_cast<std::int64_t>(decimate.step()) * static_cast<std::int64_t>(decimate.step());
  const auto tail = static_cast<std::int64_t>(decimate.length() - decimate.step());
  std::vector<std::vector<double>> low(channels.size());
  std::vector<double> planar;
  for (std::int64_t at = 0; at + tail < frames; at += piece) {
    const std::int64_t count = std::min(piece + tail, frames - at);
    planar.resize(static_cast<std::size_t>(count) * channels.size());
    source.read(range.first + at, planar);
    for (std::size_t c = 0; c < channels.size(); ++c) {
      const auto part = decimate(std::span<const double>(planar).subspan(c * static_cast<std::size_t>(count),
                                                                         static_cast<std::size_t>(count)));
      low[c].insert(low[c].end(), part.begin(), part.end());
    }
  }
  for (std::size_t c = 0; c < channels.size(); ++c) {
    if (channels[c].silent || static_cast<double>(low[c].size()) < 0.9 * kMainsLeastS * low_hz) continue;
    const MainsComb comb = find_mains(low[c], low_hz);
    channels[c].mains_bound = comb.bound;
    channels[c].mains = comb.lines;
    if (!comb.lines.empty()) {
      channels[c].mains_hz = comb.base_hz;
      channels[c].mains_uncertainty_hz = comb.uncertainty_hz;
    }
  }
}

void require_valid(const NoiseOptions& o, double rate) {
  auto fail = [](const std::string& what) { throw Error(ErrorCode::bad_argument, what); };
  auto bands = o.more_bands_hz;
  bands.emplace_back(o.band_from_hz, o.band_to_hz);
  for (const auto& [from, to] : bands) {
    if (!(from >= 0 && to > from)) fail(fmt::format("the band from {} to {} Hz is empty", from, to));
    if (from >= rate / 2)
      fail(fmt::format("the band begins at {} Hz, not below half the sample rate ({} Hz)", from, rate / 2));
  }
  if (o.tone_hz && !(*o.tone_hz > 0 && *o.tone_hz < rate / 2))
    fail(fmt::format("a tone of {} Hz is not below half the sample rate ({} Hz)", *o.tone_hz, rate / 2));
  if (o.full_scale_vrms && !(*o.full_scale_vrms > 0)) fail("what full scale is in volts has to be above 0");
}

// What an ideal converter of the capture's word length leaves in the band.
void add_floors(const WelchPlan& plan, double rate, NoiseResult& result) {
  const double from = result.options.band_from_hz, to = result.band_to_hz,
               step = std::ldexp(1.0, 1 - bits(result.format));
  const std::vector<double> flat(plan.length / 2 + 1, step * step / 12 / (rate / 2));
  result.floor_rms = std::sqrt(band_power(flat, plan.bin_hz(), from, to, unweighted));
  result.floor_a_rms = std::sqrt(band_power(flat, plan.bin_hz(), from, to, a_weight));
  result.floor_468_rms = std::sqrt(band_power(flat, plan.bin_hz(), from, to, itu_r_468_weight));
}

// A channel's mean density without its tone: with the tone's harmonics, and without them.
struct Rest {
  Density with_harmonics, density;
};

Rest rest_of(std::vector<double> mean, const WelchPlan& plan, const PowerSpread& chance,
             const NoiseResult& result, ChannelNoise& channel) {
  const double lobe_hz = 2 * plan.lobe_half_bins() * plan.bin_hz(), half_rate = result.sample_rate_hz / 2;
  channel.silent = std::all_of(mean.begin(), mean.end(), [](double v) { return v == 0; });
  Density density(std::move(mean), plan);
  if (const std::size_t bin = channel.silent ? 0 : tone_bin(density, result.options, lobe_hz); bin != 0) {
    channel.tone_hz = density.exact_hz(bin);
    channel.tone_peak = std::sqrt(2 * density.line_power(*channel.tone_hz));
    channel.tone_uncertainty_db =
        chance.line_uncertainty_db(channel.tone_peak, density.around(*channel.tone_hz));
    density.cut(*channel.tone_hz);
  }
  channel.band_rms = std::sqrt(band_power(density.values(), plan.bin_hz(), result.options.band_from_hz,
                                          result.band_to_hz, unweighted));
  channel.whole_rms =
      std::sqrt(band_power(density.values(), plan.bin_hz(), lobe_hz / 2, half_rate, unweighted));
  Density with_harmonics = density;
  if (channel.tone_hz) cut_harmonics(density, *channel.tone_hz, half_rate);
  return {std::move(with_harmonics), std::move(density)};
}

// How sure the levels of a channel are, once its lines are known.
void add_uncertainties(const Rest& rest, const WelchPlan& plan, const PowerSpread& chance,
                       const NoiseResult& result, ChannelNoise& channel) {
  const Density& density = rest.density;
  Density noise = density;
  for (MainsLine& line : channel.mains) {
    // Half of the noise beside it lies in phase with the line.
    line.uncertainty_db = 2 * kDbOfAmplitudeShare * line.around / std::sqrt(2.0) / line.peak;
    noise.cut(line.hz);
  }
  for (SpurLine& spur : channel.spurs) {
    spur.uncertainty_db = chance.line_uncertainty_db(spur.peak, density.around(spur.hz));
    noise.cut(spur.hz);
  }
  const double bin = plan.bin_hz(), from = result.options.band_from_hz, to = result.band_to_hz;
  const auto of = [&](const Density& whole, double low, double high, double (*weight)(double)) {
    return chance.uncertainty_db(whole.values(), noise.values(), bin, low, high, weight);
  };
  channel.noise_uncertainty_db = of(density, from, to, unweighted);
  channel.noise_a_uncertainty_db = of(density, from, to, a_weight);
  channel.noise_468_uncertainty_db = of(density, from, to, itu_r_468_weight);
  for (BandNoise& band : channel.more_bands)
    band.uncertainty_db = of(density, band.from_hz, band.to_hz, unweighted);
  channel.band_uncertainty_db = of(rest.with_harmonics, from, to, unweighted);
  channel.whole_uncertainty_db =
      of(rest.with_harmonics, plan.lobe_half_bins() * bin, result.sample_rate_hz / 2, unweighted);
}

double band_level(const std::vector<double>& density, const WelchPlan& plan, const NoiseResult& result) {
  return std::sqrt(
      band_power(density, plan.bin_hz(), result.options.band_from_hz, result.band_to_hz, unweighted));
}

// Level of one window without a tone and its harmonics; what lies above the band is not looked at.
double level_without(const std::vector<double>& density, const WelchPlan& plan, double tone_hz,
                     const NoiseResult& result) {
  const auto reach = static_cast<std::size_t>(plan.lobe_half_bins()) + 3;  // that is cut around a line
  const std::size_t end = static_cast<std::size_t>(result.band_to_hz / plan.bin_hz()) + 2 + reach,
                    top = std::min(density.size(), end + Density::bins_beyond(plan));
  Density rest({density.begin(), density.begin() + static_cast<std::ptrdiff_t>(top)}, plan);
  rest.cut(tone_hz);
  cut_harmonics(rest, tone_hz, std::min(result.sample_rate_hz / 2, static_cast<double>(end) * plan.bin_hz()));
  return band_level(rest.values(), plan, result);
}

// The tone of each channel as the first windows tell it; of most signals the whole stretch tells the same
// one. None where none is to be cut out.
std::vector<std::optional<double>> early_tones(AudioSource& source, const FrameRange& range,
                                               const WelchPlan& plan, const NoiseResult& result) {
  const std::size_t channels = result.channels.size();
  std::vector<std::optional<double>> tones(channels);
  const std::int64_t count = window_count(plan, range.frames()),
                     looked_at = std::min(kLookedAt, count / kOfThem);
  if (result.options.keep_tone || looked_at == 0) return tones;
  WindowDensity density_of(plan);
  std::vector<double> samples(channels * plan.frames), density(plan.length / 2 + 1);
  std::vector<std::vector<double>> sums(channels, std::vector<double>(density.size(), 0.0));
  for (std::int64_t i = 0; i < looked_at; ++i) {
    source.read(range.first + i * static_cast<std::int64_t>(plan.hop), samples);
    for (std::size_t c = 0; c < channels; ++c) {
      density_of(samples.data() + c * plan.frames, density);
      for (std::size_t b = 0; b < density.size(); ++b) sums[c][b] += density[b];
    }
  }
  const double lobe_hz = 2 * plan.lobe_half_bins() * plan.bin_hz();
  for (std::size_t c = 0; c < channels; ++c) {
    if (!std::isfinite(sums[c][0])) continue;
    const Density mean(std::move(sums[c]), plan);
    if (const std::size_t bin = tone_bin(mean, result.options, lobe_hz); bin != 0)
      tones[c] = mean.exact_hz(bin);
  }
  return tones;
}

// Levels over time of a channel, whole and without the tone that is expected.
struct LevelsOverTime {
  std::vector<double> all, without;
};

bool same_tone(double a_hz, double b_hz, const WelchPlan& plan) {
  constexpr double kSameTone = 0.01;  // bins
  return std::abs(a_hz - b_hz) < kSameTone * plan.bin_hz();
}

// Levels over time once more, without the tone, where another one was expected.
void read_over_time_again(AudioSource& source, const FrameRange& range, const WelchPlan& plan,
                          const std::vector<bool>& channels, NoiseResult& result) {
  for_each_window(
      source, range, plan, [](std::size_t, std::int64_t, const std::vector<double>&) {}, {},
      [&](std::size_t c, std::int64_t w, const std::vector<double>& density) {
        ChannelNoise& channel = result.channels[c];
        if (channels[c])
          channel.over_time[static_cast<std::size_t>(w)] =
              level_without(density, plan, *channel.tone_hz, result);
      });
}

}  // namespace

NoiseResult measure_noise(const JudgedCapture& capture, const NoiseOptions& options) {
  AudioSource& source = capture.source();
  const double rate = source.sample_rate_hz();
  require_valid(options, rate);
  const FrameRange range = frame_range(source, options.from_s, options.to_s);
  if (static_cast<double>(range.frames()) < kShortestS * rate)
    throw Error(
        ErrorCode::bad_input,
        fmt::format("{} frames ({:.3f} s) are too short for a noise level: it needs {} s, 5 s to be exact",
                    range.frames(), static_cast<double>(range.frames()) / rate, kShortestS));
  const WelchPlan plan = plan_welch(rate, range.frames(), kWindowS, kOverlap, kBeta);
  const auto count = static_cast<std::size_t>(source.channel_count());
  NoiseResult result;
  result.options = options;
  result.format = capture.format();
  result.sample_rate_hz = rate;
  result.frames = range.frames();
  result.band_to_hz = std::min(options.band_to_hz, rate / 2);
  result.window_s = static_cast<double>(plan.frames) / rate;
  result.hop_s = static_cast<double>(plan.hop) / rate;
  result.channels.resize(count);
  const double from = options.band_from_hz, to = result.band_to_hz;
  const PowerSpread chance(plan, range.frames(), kaiser_window(plan.frames, plan.beta));
  result.spread_db = 4.34 / std::sqrt((to - from) * chance.seconds());
  if (is_integer(result.format)) add_floors(plan, rate, result);

  std::vector<std::vector<double>> mean(count, std::vector<double>(plan.length / 2 + 1, 0.0));
  const auto windows = window_count(plan, range.frames());
  const auto expected_hz = early_tones(source, range, plan, result);
  std::vector<LevelsOverTime> over_time(count);
  for (std::size_t c = 0; c < count; ++c) {
    over_time[c].all.resize(static_cast<std::size_t>(windows));
    if (expected_hz[c]) over_time[c].without.resize(static_cast<std::size_t>(windows));
  }
  for_each_window(
      source, range, plan,
      [&](std::size_t c, std::int64_t, const std::vector<double>& density) {
        for (std::size_t b = 0; b < density.size(); ++b) mean[c][b] += density[b];
      },
      {},
      [&](std::size_t c, std::int64_t w, const std::vector<double>& density) {
        const auto at = static_cast<std::size_t>(w);
        over_time[c].all[at] = band_level(density, plan, result);
        if (expected_hz[c]) over_time[c].without[at] = level_without(density, plan, *expected_hz[c], result);
      });
  std::vector<Rest> rests;
  bool any_tone = false;
  for (std::size_t c = 0; c < count; ++c) {
    for (double& value : mean[c]) value /= static_cast<double>(windows);
    rests.push_back(rest_of(std::move(mean[c]), plan, chance, result, result.channels[c]));
    any_tone = any_tone || result.channels[c].tone_hz;
  }
  if (options.tone_hz && !options.keep_tone && !any_tone)
    throw Error(ErrorCode::bad_input,
                fmt::format("no tone stands out of the noise near {:g} Hz: there is nothing to cut out there",
                            *options.tone_hz));
  add_mains(source, range, result.channels);
  for (std::size_t c = 0; c < count; ++c) {
    ChannelNoise& channel = result.channels[c];
    const Density& rest = rests[c].density;
    const auto& values = rest.values();
    channel.noise_rms = std::sqrt(band_power(values, plan.bin_hz(), from, to, unweighted));
    channel.noise_a_rms = std::sqrt(band_power(values, plan.bin_hz(), from, to, a_weight));
    channel.noise_468_rms = std::sqrt(band_power(values, plan.bin_hz(), from, to, itu_r_468_weight));
    for (const auto& [low, high] : options.more_bands_hz) {
      BandNoise band{.from_hz = low, .to_hz = std::min(high, rate / 2)};
      band.rms = std::sqrt(band_power(values, plan.bin_hz(), band.from_hz, band.to_hz, unweighted));
      channel.more_bands.push_back(band);
    }
    channel.spurs = spurs_of(rest, channel, options, to, 2 * plan.lobe_half_bins() * plan.bin_hz());
    add_density(rest, rate / 2, channel);
    if (!channel.silent) add_uncertainties(rests[c], plan, chance, result, channel);
  }
  std::vector<bool> again(count, false);
  for (std::size_t c = 0; c < count; ++c) {
    const auto& tone_hz = result.channels[c].tone_hz;
    again[c] = tone_hz && !(expected_hz[c] && same_tone(*expected_hz[c], *tone_hz, plan));
    result.channels[c].over_time = std::move(tone_hz && !again[c] ? over_time[c].without : over_time[c].all);
  }
  if (std::find(again.begin(), again.end(), true) != again.end())
    read_over_time_again(source, range, plan, again, result);
  return result;
}

}  // namespace wavicon
