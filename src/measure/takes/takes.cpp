// SPDX-License-Identifier: MIT
#include "wavicon/measure/takes/takes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/cross_spectra.hpp"
#include "measure/common/welch.hpp"
#include "measure/levels/levels_of.hpp"
#include "measure/takes/loss.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/jackknife.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kLookS = 0.01;
constexpr double kQuietestDb = -140;
constexpr double kLeastTakeS = 0.3;
constexpr double kUsualGapS = 0.6;
constexpr double kEdgeS = 0.02;     // kept around a take
constexpr double kGapEdgeS = 0.05;  // left out at both ends of a gap
constexpr double kLeastGapNoiseS = 0.1;
constexpr double kLeastContrastDb = 6;

struct LoudRun {
  std::size_t first = 0, end = 0;  // in looks
};

std::vector<double> looks(AudioSource& source, std::size_t length) {
  std::vector<double> levels, scratch(length * 64 * static_cast<std::size_t>(source.channel_count()));
  for_each_block(
      source, 0, source.frames(), scratch,
      [&](std::int64_t at, std::span<const double> planar, std::int64_t count) {
        const auto frames = static_cast<std::size_t>(count);
        for (std::size_t first = 0; first < frames; first += length) {
          const std::size_t end = std::min(frames, first + length);
          double most = 0;
          for (int c = 0; c < source.channel_count(); ++c) {
            double sum = 0;
            for (std::size_t n = first; n < end; ++n) {
              const double v = planar[static_cast<std::size_t>(c) * frames + n];
              sum += v * v;
            }
            if (!std::isfinite(sum))
              throw Error(ErrorCode::bad_input,
                          fmt::format("holds NaN or infinity near {:.3f} s; 'wavicon health' names the place",
                                      static_cast<double>(at + static_cast<std::int64_t>(first)) /
                                          source.sample_rate_hz()));
            most = std::max(most, sum / static_cast<double>(end - first));
          }
          levels.push_back(most > 0 ? std::max(kQuietestDb, db_from_power_ratio(most)) : kQuietestDb);
        }
      });
  return levels;
}

// The level that parts the two heaps best: greatest variance between them (Otsu, IEEE Trans. SMC-9, 1979, to
// verify).
double parting_level(std::vector<double> levels) {
  std::sort(levels.begin(), levels.end());
  const auto n = static_cast<double>(levels.size());
  double all = 0, below = 0, best = -1, at = levels.front();
  for (const double level : levels) all += level;
  for (std::size_t i = 0; i + 1 < levels.size(); ++i) {
    below += levels[i];
    const auto count = static_cast<double>(i + 1);
    const double apart = below / count - (all - below) / (n - count),
                 variance = count * (n - count) * apart * apart;
    if (variance > best) {
      best = variance;
      at = 0.5 * (levels[i] + levels[i + 1]);
    }
  }
  return at;
}

std::vector<LoudRun> stretches_above(const std::vector<double>& levels, double threshold) {
  std::vector<LoudRun> found;
  for (std::size_t i = 0; i < levels.size(); ++i) {
    if (levels[i] <= threshold) continue;
    if (found.empty() || found.back().end != i) found.push_back({i, i});
    found.back().end = i + 1;
  }
  return found;
}

// In the widest step between the lengths of silences, as ratios.
double parting_gap(const std::vector<LoudRun>& stretches) {
  std::vector<double> gaps;
  for (std::size_t i = 1; i < stretches.size(); ++i) {
    const double gap = static_cast<double>(stretches[i].first - stretches[i - 1].end) * kLookS;
    if (gap > 0.1) gaps.push_back(gap);
  }
  std::sort(gaps.begin(), gaps.end());
  // Words are parted by short ones: a step among these parts takes only where there is none above.
  for (const auto& [from_s, to_s] : {std::pair{0.4, 3.0}, {0.2, 0.4}}) {
    double widest = 1.3, at = 0;
    for (std::size_t i = 1; i < gaps.size(); ++i) {
      const double middle = std::sqrt(gaps[i] * gaps[i - 1]);
      if (gaps[i] / gaps[i - 1] <= widest || middle < from_s || middle > to_s) continue;
      widest = gaps[i] / gaps[i - 1];
      at = middle;
    }
    if (at > 0) return at;
  }
  return kUsualGapS;
}

// Third octaves of all channels' mean power over a stretch: RMS of each by frequency.
std::vector<std::pair<double, double>> bands_of(AudioSource& source, std::int64_t first, std::int64_t end,
                                                double gain_db) {
  const double rate = source.sample_rate_hz();
  std::vector<double> density;
  double bin = 1;
  for (int c = 0; c < source.channel_count(); ++c) {
    CrossSpectra spectra(rate, end - first);
    for (std::int64_t at = first; at < end; at += 1 << 16) {
      const auto x = read_channel(source, c, at, std::min<std::int64_t>(1 << 16, end - at));
      spectra.add(x, x);
    }
    bin = spectra.bin_hz();
    density.resize(spectra.xx().size(), 0.0);
    for (std::size_t k = 0; k < density.size(); ++k)
      density[k] += spectra.xx()[k] * spectra.density_scale() / source.channel_count();
  }
  const double half = std::pow(10.0, 0.05);
  std::vector<std::pair<double, double>> bands;
  for (int band = -17; band <= 13; ++band) {
    const double hz = 1000 * std::pow(10.0, band / 10.0);
    if (hz * half > rate / 2 || hz * (half - 1 / half) < bin) continue;
    bands.emplace_back(hz, ratio_from_db(gain_db) * std::sqrt(band_power(density, bin, hz / half, hz * half,
                                                                         [](double) { return 1.0; })));
  }
  return bands;
}

// Of the take and of the gap after it: bands that both have.
void add_bands(AudioSource& source, double gap_end_s, RecordedTake& take) {
  const double rate = source.sample_rate_hz();
  const auto first = std::llround(take.start_s * rate), end = std::llround(take.end_s * rate);
  const auto own = bands_of(source, first, end, take.gain_db);
  std::vector<std::pair<double, double>> noise;
  const auto gap_first = std::llround((take.end_s + kGapEdgeS) * rate),
             gap_end = std::llround((gap_end_s - kGapEdgeS) * rate);
  if (static_cast<double>(gap_end - gap_first) > kLeastGapNoiseS * rate)
    noise = bands_of(source, gap_first, gap_end, take.gain_db);
  const double take_s = take.end_s - take.start_s,
               gap_s = std::max(1e-9, static_cast<double>(gap_end - gap_first) / rate);
  std::size_t at = 0;
  for (const auto& [hz, rms] : own) {
    while (at < noise.size() && noise[at].first < 0.999 * hz) ++at;
    const bool known = at < noise.size() && noise[at].first < 1.001 * hz;
    if (!noise.empty() && !known) continue;
    const double under = known ? noise[at].second : 0,
                 width = hz * (std::pow(10.0, 0.05) - std::pow(10.0, -0.05)),
                 signal = std::max(rms * rms - under * under, 1e-300),
                 sure = under * under * std::sqrt(1 / (width * gap_s) + 1 / (width * take_s));
    take.band_hz.push_back(hz);
    take.band_rms.push_back(rms);
    take.band_deviation.push_back(sure / signal);
    if (!noise.empty()) take.band_noise_rms.push_back(under);
  }
}

// Of Σx, Σx² and how many there are: mean square beside the mean.
double beside_dc(const PartSums<3>& p) { return std::max(0.0, p[1] / p[2] - p[0] * p[0] / p[2] / p[2]); }

// RMS of the gap in a take, DC taken off, and how sure it is.
void add_gap_noise(AudioSource& source, std::int64_t first, std::int64_t end, RecordedTake& take) {
  const double rate = source.sample_rate_hz();
  first += static_cast<std::int64_t>(kGapEdgeS * rate);
  end -= static_cast<std::int64_t>(kGapEdgeS * rate);
  if (static_cast<double>(end - first) < kLeastGapNoiseS * rate) return;
  const std::int64_t hop =
      std::max<std::int64_t>(1, (end - first) / (4 * static_cast<std::int64_t>(kJackknifeParts)));
  double power = 0;
  std::vector<PartSums<3>> parts;
  for (int c = 0; c < source.channel_count(); ++c) {
    const auto x = read_channel(source, c, first, end - first);
    PartSums<3> all{};
    for (std::size_t n = 0; n < x.size(); ++n) {
      const std::size_t part = n / static_cast<std::size_t>(hop);
      const PartSums<3> here{x[n], x[n] * x[n], 1};
      if (parts.size() <= part) parts.resize(part + 1);
      add_sums(parts[part], here);
      add_sums(all, here);
    }
    power += beside_dc(all) / source.channel_count();
  }
  take.gap_rms = std::sqrt(power);
  if (power > 0)
    take.gap_uncertainty_db =
        jackknife(parts, [](const auto& p) { return db_from_power_ratio(beside_dc(p)); });
}

void require_valid(const TakesOptions& options) {
  if (options.threshold_dbfs && !(*options.threshold_dbfs > kQuietestDb && *options.threshold_dbfs < 0))
    throw Error(ErrorCode::bad_argument, fmt::format("a threshold of {} dBFS is not within {} to 0",
                                                     *options.threshold_dbfs, kQuietestDb));
  if (options.least_gap_s && !(*options.least_gap_s >= 0.02 && *options.least_gap_s <= 3600))
    throw Error(ErrorCode::bad_argument,
                fmt::format("a gap of {} s is not within 0.02 to 3600", *options.least_gap_s));
  if (options.above_hz && !(*options.above_hz >= 20 && *options.above_hz <= 200000))
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("{} Hz, above which losses are told, is not within 20 to 200 000", *options.above_hz));
}

// Loud runs with less than a gap between them are one; what is too short for a take is none.
std::vector<LoudRun> joined_runs(const std::vector<LoudRun>& above, double least_gap_s) {
  std::vector<LoudRun> joined;
  for (const LoudRun& s : above) {
    const bool near =
        !joined.empty() && static_cast<double>(s.first - joined.back().end) * kLookS < least_gap_s;
    if (near)
      joined.back().end = s.end;
    else
      joined.push_back(s);
  }
  std::erase_if(joined,
                [](const LoudRun& s) { return static_cast<double>(s.end - s.first) * kLookS < kLeastTakeS; });
  return joined;
}

// Levels between its two ends, and of the noise up to where the next one begins.
RecordedTake take_between(AudioSource& source, double start_s, double end_s, double gap_end_s) {
  const double rate = source.sample_rate_hz();
  RecordedTake take;
  take.start_s = start_s;
  take.end_s = end_s;
  const LevelsResult level = levels_of(source, {.from_s = start_s, .to_s = end_s, .true_peak = false});
  double power = 0;
  for (const ChannelLevels& c : level.channels)
    power += c.rms * c.rms / static_cast<double>(level.channels.size());
  take.rms = std::sqrt(power);
  take.lufs = level.loudness.integrated_lufs;
  if (const auto& u = level.channels.front().uncertainty) take.rms_uncertainty_db = u->rms_db;
  take.loudness_uncertainty_lu = level.loudness.integrated_uncertainty_lu;
  add_gap_noise(source, std::llround(end_s * rate), std::llround(gap_end_s * rate), take);
  return take;
}

}  // namespace

TakesResult measure_takes(const JudgedCapture& recording, const TakesOptions& options) {
  AudioSource& source = recording.source();
  if (source.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  require_valid(options);
  TakesResult result;
  result.options = options;
  const double rate = result.sample_rate_hz = source.sample_rate_hz();
  const auto look = static_cast<std::size_t>(std::max(1.0, std::round(kLookS * rate)));
  const auto levels = looks(source, look);
  const double loudest = *std::max_element(levels.begin(), levels.end());
  if (loudest <= kQuietestDb) throw Error(ErrorCode::bad_input, "it is silent: there are no takes in it");
  result.threshold_found = !options.threshold_dbfs;
  result.threshold_dbfs = options.threshold_dbfs.value_or(parting_level(levels));
  if (loudest < result.threshold_dbfs + (options.threshold_dbfs ? 0 : kLeastContrastDb))
    throw Error(
        ErrorCode::bad_input,
        fmt::format("nothing stands out: the loudest 10 ms are at {:.1f} dBFS, the threshold at {:.1f}; "
                    "--threshold sets another",
                    loudest, result.threshold_dbfs));
  const auto above = stretches_above(levels, result.threshold_dbfs);
  result.gap_found = !options.least_gap_s;
  result.least_gap_s = options.least_gap_s.value_or(parting_gap(above));

  const auto joined = joined_runs(above, result.least_gap_s);
  if (joined.empty())
    throw Error(ErrorCode::bad_input, fmt::format("nothing lasts for {:g} s above {:.1f} dBFS: no takes",
                                                  kLeastTakeS, result.threshold_dbfs));

  const double look_s = result.look_s = static_cast<double>(look) / rate,
               all_s = static_cast<double>(source.frames()) / rate;
  for (std::size_t i = 0; i < joined.size(); ++i) {
    const double gap_end_s =
        i + 1 < joined.size() ? static_cast<double>(joined[i + 1].first) * look_s : all_s;
    RecordedTake take =
        take_between(source, std::max(0.0, static_cast<double>(joined[i].first) * look_s - kEdgeS),
                     std::min(all_s, static_cast<double>(joined[i].end) * look_s + kEdgeS), gap_end_s);
    const RecordedTake& first = result.takes.empty() ? take : result.takes.front();
    take.gain_db = options.by_rms || !take.lufs || !first.lufs ? db_from_ratio(first.rms / take.rms)
                                                               : *first.lufs - *take.lufs;
    add_bands(source, gap_end_s, take);
    take.noise_from_hz = noise_from(take);
    if (!result.takes.empty()) take.loss = loss_against(result.takes.front(), take, rate, options.above_hz);
    result.takes.push_back(std::move(take));
  }
  return result;
}

}  // namespace wavicon
