// SPDX-License-Identifier: MIT
#include "wavicon/measure/takes/takes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/cross_spectra.hpp"
#include "measure/common/welch.hpp"
#include "measure/levels/levels_of.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kLookS = 0.01;
constexpr double kQuietestDb = -140;
constexpr double kLeastTakeS = 0.3;
constexpr double kEdgeS = 0.02;     // kept around a take
constexpr double kGapEdgeS = 0.05;  // left out at both ends of a gap
constexpr double kLeastGapNoiseS = 0.1;
constexpr double kLeastContrastDb = 6;
constexpr double kLacksDb = -6;
constexpr double kNoiseOverDb = 10;  // a band must stand so far over the gap's noise to be told of

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
  double widest = 1.3, at = 1;
  for (std::size_t i = 1; i < gaps.size(); ++i) {
    const double middle = std::sqrt(gaps[i] * gaps[i - 1]);
    if (gaps[i] / gaps[i - 1] > widest && middle >= 0.4 && middle <= 3) {
      widest = gaps[i] / gaps[i - 1];
      at = middle;
    }
  }
  return at;
}

// Third octaves of all channels' mean power over a stretch.
void add_bands(AudioSource& source, std::int64_t first, std::int64_t end, double gain_db,
               RecordedTake& take) {
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
  for (int band = -17; band <= 13; ++band) {
    const double hz = 1000 * std::pow(10.0, band / 10.0);
    if (hz * half > rate / 2 || hz * (half - 1 / half) < bin) continue;
    take.band_hz.push_back(hz);
    take.band_rms.push_back(ratio_from_db(gain_db) * std::sqrt(band_power(density, bin, hz / half, hz * half,
                                                                          [](double) { return 1.0; })));
  }
}

std::optional<double> gap_noise(AudioSource& source, std::int64_t first, std::int64_t end) {
  const double rate = source.sample_rate_hz();
  first += static_cast<std::int64_t>(kGapEdgeS * rate);
  end -= static_cast<std::int64_t>(kGapEdgeS * rate);
  if (static_cast<double>(end - first) < kLeastGapNoiseS * rate) return std::nullopt;
  double power = 0;
  for (int c = 0; c < source.channel_count(); ++c) {
    const auto x = read_channel(source, c, first, end - first);
    double sum = 0, squares = 0;
    for (const double v : x) {
      sum += v;
      squares += v * v;
    }
    const auto n = static_cast<double>(x.size());
    power += std::max(0.0, squares / n - sum * sum / n / n) / source.channel_count();
  }
  return std::sqrt(power);
}

double slope_of(const std::vector<double>& hz, const std::vector<double>& rms, std::size_t from) {
  double n = 0, x = 0, y = 0, xx = 0, xy = 0;
  for (std::size_t i = from; i < hz.size(); ++i) {
    if (rms[i] <= 0) continue;
    const double octaves = std::log2(hz[i]), db = db_from_ratio(rms[i]);
    n += 1;
    x += octaves;
    y += db;
    xx += octaves * octaves;
    xy += octaves * db;
  }
  const double determinant = n * xx - x * x;
  return determinant > 0 ? (n * xy - x * y) / determinant : 0;
}

// From which band up a take lacks more than 6 dB against the first one.
void compare(const RecordedTake& first, RecordedTake& take) {
  if (take.band_hz != first.band_hz) return;
  std::size_t from = take.band_hz.size();
  double sum = 0;
  while (from > 0) {
    const double a = first.band_rms[from - 1], b = take.band_rms[from - 1];
    if (a <= 0 || b <= 0 || db_from_ratio(b / a) > kLacksDb) break;
    sum += db_from_ratio(b / a);
    --from;
  }
  const std::size_t bands = take.band_hz.size() - from;
  if (bands < 3 || from == 0) return;
  take.missing_from_hz = take.band_hz[from] / std::pow(10.0, 0.05);
  take.missing_db = sum / static_cast<double>(bands);
  take.slope_db_per_octave = slope_of(take.band_hz, take.band_rms, from);
  take.first_slope_db_per_octave = slope_of(first.band_hz, first.band_rms, from);
}

void require_valid(const TakesOptions& options) {
  if (options.threshold_dbfs && !(*options.threshold_dbfs > kQuietestDb && *options.threshold_dbfs < 0))
    throw Error(ErrorCode::bad_argument, fmt::format("a threshold of {} dBFS is not within {} to 0",
                                                     *options.threshold_dbfs, kQuietestDb));
  if (options.least_gap_s && !(*options.least_gap_s >= 0.02 && *options.least_gap_s <= 3600))
    throw Error(ErrorCode::bad_argument,
                fmt::format("a gap of {} s is not within 0.02 to 3600", *options.least_gap_s));
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
  take.gap_rms = gap_noise(source, std::llround(end_s * rate), std::llround(gap_end_s * rate));
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
        fmt::format("nothing stands out: the loudest 10 ms lie at {:.1f} dBFS, the threshold at {:.1f}; "
                    "--threshold sets another",
                    loudest, result.threshold_dbfs));
  const auto above = stretches_above(levels, result.threshold_dbfs);
  result.gap_found = !options.least_gap_s;
  result.least_gap_s = options.least_gap_s.value_or(parting_gap(above));

  const auto joined = joined_runs(above, result.least_gap_s);
  if (joined.empty())
    throw Error(ErrorCode::bad_input, fmt::format("nothing lasts for {:g} s above {:.1f} dBFS: no takes",
                                                  kLeastTakeS, result.threshold_dbfs));

  const double look_s = static_cast<double>(look) / rate, all_s = static_cast<double>(source.frames()) / rate;
  for (std::size_t i = 0; i < joined.size(); ++i) {
    RecordedTake take =
        take_between(source, std::max(0.0, static_cast<double>(joined[i].first) * look_s - kEdgeS),
                     std::min(all_s, static_cast<double>(joined[i].end) * look_s + kEdgeS),
                     i + 1 < joined.size() ? static_cast<double>(joined[i + 1].first) * look_s : all_s);
    const RecordedTake& first = result.takes.empty() ? take : result.takes.front();
    take.gain_db = options.by_rms || !take.lufs || !first.lufs ? db_from_ratio(first.rms / take.rms)
                                                               : *first.lufs - *take.lufs;
    add_bands(source, std::llround(take.start_s * rate), std::llround(take.end_s * rate), take.gain_db, take);
    if (!result.takes.empty()) compare(result.takes.front(), take);
    result.takes.push_back(std::move(take));
  }
  return result;
}

Sheet takes_sheet(const TakesResult& r, const CaptureInfo& capture) {
  SheetBuilder sheet(takes_readings(), capture);
  auto say = [&](Severity severity, FindingCode code, std::string text) {
    sheet.say(severity, code, std::move(text), std::nullopt);
  };
  const Conditions common = {{"threshold_dbfs", r.threshold_dbfs},
                             {"least_gap_s", r.least_gap_s},
                             {"matched_by", std::string(r.options.by_rms ? "RMS" : "loudness")},
                             {"sample_rate_hz", r.sample_rate_hz}};
  auto add = [&](const char* name, std::optional<double> value, Conditions more) {
    more.insert(more.end(), common.begin(), common.end());
    sheet.add(name, std::nullopt, value, std::move(more));
  };
  say(Severity::note, FindingCode::result,
      fmt::format("{} take{}: above {:.1f} dBFS{}, silences from {:.2f} s on part them{}", r.takes.size(),
                  r.takes.size() == 1 ? "" : "s", r.threshold_dbfs, r.threshold_found ? " (found)" : "",
                  r.least_gap_s, r.gap_found ? " (found)" : ""));
  add("take_count", static_cast<double>(r.takes.size()), {});
  double least = 1e9, most = -1e9;
  std::size_t quietest = 0, noisiest = 0;
  for (std::size_t i = 0; i < r.takes.size(); ++i) {
    const RecordedTake& take = r.takes[i];
    const Conditions which = {{"take", static_cast<std::int64_t>(i + 1)}};
    add("start_s", take.start_s, which);
    add("end_s", take.end_s, which);
    add("rms_dbfs", db_from_ratio(take.rms), which);
    add("loudness_integrated_lufs", take.lufs, which);
    add("gain_db", take.gain_db, which);
    if (take.gap_rms && *take.gap_rms > 0) {
      const double matched = db_from_ratio(*take.gap_rms) + take.gain_db;
      Conditions more = which;
      more.emplace_back("matched_dbfs", matched);
      add("gap_noise_dbfs", db_from_ratio(*take.gap_rms), more);
      if (matched < least) {
        least = matched;
        quietest = i;
      }
      if (matched > most) {
        most = matched;
        noisiest = i;
      }
    }
    if (take.missing_from_hz)
      say(Severity::note, FindingCode::comparison,
          fmt::format("take {}: {:.0f} dB against take 1 above {:.3g} kHz; its slope there "
                      "is {:+.0f} dB/octave against {:+.0f}",
                      i + 1, take.missing_db, *take.missing_from_hz / 1000, take.slope_db_per_octave,
                      take.first_slope_db_per_octave));
    Curve curve{fmt::format("take {}", i + 1), std::nullopt, "Hz", "dBFS", take.band_hz, {}};
    for (const double rms : take.band_rms) curve.y.push_back(rms > 0 ? db_from_ratio(rms) : kQuietestDb);
    sheet.draw(std::move(curve));
  }
  if (most > least)
    say(Severity::note, FindingCode::comparison,
        fmt::format("brought to the same loudness, the noise after take {} is lowest ({:.1f} "
                    "dBFS), after take {} highest ({:.1f} dBFS)",
                    quietest + 1, least, noisiest + 1, most));
  return sheet.finish();
}

}  // namespace wavicon
