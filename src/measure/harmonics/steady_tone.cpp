// SPDX-License-Identifier: MIT
#include "measure/harmonics/steady_tone.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <complex>
#include <deque>
#include <functional>
#include <utility>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kLookS = 0.3;              // least length of the look for the frequency: 6 periods of 20 Hz
constexpr std::size_t kLooks = 5;           // blocks that are looked at
constexpr std::size_t kLooksWhenNamed = 2;  // loudest blocks, when the frequency is given
constexpr double kLookBeta = 8;             // main lobe 2.7 bins, skirts below -60 dB
constexpr double kLowestLookBin = 1.5;      // below this lies what is left of DC
constexpr double kWantedWithin = 0.03;      // a tone asked for is looked for within 3 %
constexpr double kStepPeriods = 4;          // one value of the level trace
constexpr double kStepS = 0.010;
constexpr std::size_t kHeldSteps = 8;  // in a row that count as held
constexpr double kSteadyDb = 0.5;
constexpr double kNoiseSpread = 6;  // times the median change from step to step
constexpr double kNearHighestDb = 6;
constexpr double kMostSofterDb = 20;     // than the strongest: a longer tone is taken before it
constexpr double kPlainlyLonger = 1.25;  // times
constexpr std::size_t kMostLooks = 200;  // over the whole
constexpr std::size_t kMostTones = 12;

// Starts of the blocks with the most energy.
std::vector<std::size_t> loudest_blocks(std::span<const double> samples, std::size_t length,
                                        std::size_t most) {
  std::vector<std::pair<double, std::size_t>> found;
  const std::size_t hop = std::max<std::size_t>(1, length / 2);
  for (std::size_t start = 0; start + length <= samples.size(); start += hop) {
    double energy = 0;
    for (const double x : samples.subspan(start, length)) energy += x * x;
    found.emplace_back(-energy, start);
  }
  const std::size_t count = std::min(found.size(), most);
  std::partial_sort(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(count), found.end());
  std::vector<std::size_t> starts;
  for (std::size_t i = 0; i < count; ++i) starts.push_back(found[i].second);
  return starts;
}

void add_power(std::span<const double> block, std::span<const double> window, RealTransform& transform,
               std::vector<double>& power) {
  double weight = 0, weighted = 0;
  for (std::size_t i = 0; i < block.size(); ++i) {
    weight += window[i];
    weighted += window[i] * block[i];
  }
  const auto input = transform.input();
  std::fill(input.begin(), input.end(), 0.0);
  for (std::size_t i = 0; i < block.size(); ++i) input[i] = window[i] * (block[i] - weighted / weight);
  transform.execute();
  const auto bins = transform.bins();
  for (std::size_t b = 0; b < bins.size(); ++b) power[b] += std::norm(bins[b]);
}

// Highest line over the loudest blocks, by a parabola through the logarithms of the three highest bins. Over
// several blocks a tone that stays gathers in one place, and a chirp that is louder for a moment does not.
double rough_frequency_hz(std::span<const double> samples, std::size_t length, double sample_rate_hz,
                          std::optional<double> wanted_hz, SpectralTools& tools) {
  RealTransform& transform = tools.transforms.get(fast_transform_length(2 * length));
  std::vector<double> bins(transform.length() / 2 + 1, 0.0);
  for (const std::size_t start : loudest_blocks(samples, length, wanted_hz ? kLooksWhenNamed : kLooks))
    add_power(samples.subspan(start, length), tools.windows.get(length, kLookBeta), transform, bins);

  const double hz_per_bin = sample_rate_hz / static_cast<double>(transform.length());
  const double hz_per_look = sample_rate_hz / static_cast<double>(length);
  double low_hz = kLowestLookBin * hz_per_look, high_hz = sample_rate_hz / 2;
  if (wanted_hz) {
    const double reach = std::max(kWantedWithin * *wanted_hz, hz_per_look);
    low_hz = std::max(low_hz, *wanted_hz - reach);
    high_hz = std::min(high_hz, *wanted_hz + reach);
  }
  const auto first =
      std::clamp<std::size_t>(static_cast<std::size_t>(std::ceil(low_hz / hz_per_bin)), 1, bins.size() - 2);
  const auto last =
      std::clamp<std::size_t>(static_cast<std::size_t>(high_hz / hz_per_bin), first, bins.size() - 2);
  std::size_t top = first;
  for (std::size_t b = first; b <= last; ++b)
    if (bins[b] > bins[top]) top = b;
  const double shift = crest_shift(bins[top - 1], bins[top], bins[top + 1]);
  return (static_cast<double>(top) + shift) * hz_per_bin;
}

// Amplitude of the tone over time, one value every half step, each under a Hann window.
std::vector<double> amplitude_trace(std::span<const double> samples, double frequency_hz,
                                    double sample_rate_hz, std::size_t step) {
  std::vector<double> hann(step);
  for (std::size_t i = 0; i < step; ++i)
    hann[i] =
        0.5 - 0.5 * cosine(phase_from_cycles((static_cast<double>(i) + 0.5) / static_cast<double>(step)));
  const Phase turn = phase_step(frequency_hz, sample_rate_hz);
  std::vector<double> trace, weighted(step);
  for (std::size_t start = 0; start + step <= samples.size(); start += step / 2) {
    for (std::size_t i = 0; i < step; ++i) weighted[i] = hann[i] * samples[start + i];
    trace.push_back(4.0 * std::abs(tone_sum(weighted, turn)) / static_cast<double>(step));
  }
  return trace;
}

// The highest level that is held over eight steps: a chirp or a click that passes the tone's frequency does
// not count.
double held_level_db(const std::vector<double>& levels_db) {
  const std::size_t held = std::clamp<std::size_t>(levels_db.size() / 2, 1, kHeldSteps);
  double highest = *std::min_element(levels_db.begin(), levels_db.end());
  for (std::size_t i = 0; i + held <= levels_db.size(); ++i) {
    const auto first = levels_db.begin() + static_cast<std::ptrdiff_t>(i);
    highest = std::max(highest, *std::min_element(first, first + static_cast<std::ptrdiff_t>(held)));
  }
  return highest;
}

double median_change_db(const std::vector<double>& levels_db, double lowest_db) {
  std::vector<double> changes;
  for (std::size_t i = 1; i < levels_db.size(); ++i)
    if (levels_db[i] > lowest_db && levels_db[i - 1] > lowest_db)
      changes.push_back(std::abs(levels_db[i] - levels_db[i - 1]));
  if (changes.empty()) return 0;
  const auto middle = changes.begin() + static_cast<std::ptrdiff_t>(changes.size() / 2);
  std::nth_element(changes.begin(), middle, changes.end());
  return *middle;
}

struct Run {
  std::size_t first = 0;
  std::size_t count = 0;
};

// Longest run of values above `lowest` that all lie within `spread` of each other. The two queues hold the
// indices that can still become the highest and the lowest value of a window that ends at i.
Run longest_run(const std::vector<double>& values, double lowest, double spread) {
  Run best;
  std::size_t start = 0;
  std::deque<std::size_t> highs, lows;
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (values[i] <= lowest) {
      start = i + 1;
      highs.clear();
      lows.clear();
      continue;
    }
    while (!highs.empty() && values[highs.back()] <= values[i]) highs.pop_back();
    while (!lows.empty() && values[lows.back()] >= values[i]) lows.pop_back();
    highs.push_back(i);
    lows.push_back(i);
    while (values[highs.front()] - values[lows.front()] > spread) {
      ++start;
      if (highs.front() < start) highs.pop_front();
      if (lows.front() < start) lows.pop_front();
    }
    if (i + 1 - start > best.count) best = {start, i + 1 - start};
  }
  return best;
}

// Where a tone of that frequency holds its level for longest.
struct Held {
  std::size_t step = 0, steps = 0;
  Run run;
  [[nodiscard]] std::size_t frames() const { return run.count * step / 2; }
};

Held held_at(std::span<const double> samples, double sample_rate_hz, double hz) {
  Held held;
  held.step =
      2 * static_cast<std::size_t>(std::ceil(0.5 * sample_rate_hz * std::max(kStepPeriods / hz, kStepS)));
  if (samples.size() < 4 * held.step) return held;
  std::vector<double> levels_db = amplitude_trace(samples, hz, sample_rate_hz, held.step);
  for (double& level : levels_db) level = db_from_ratio(std::max(level, 1e-30));
  held.steps = levels_db.size();
  const double highest_db = held_level_db(levels_db), lowest_db = highest_db - kNearHighestDb;
  const double spread_db = std::max(kSteadyDb, kNoiseSpread * median_change_db(levels_db, lowest_db));
  held.run = longest_run(levels_db, lowest_db, spread_db);
  // A softer step of it that is plainly longer is taken instead.
  const Run softer = longest_run(levels_db, highest_db - kMostSofterDb, spread_db);
  if (static_cast<double>(softer.count) > kPlainlyLonger * static_cast<double>(held.run.count))
    held.run = softer;
  return held;
}

// The strongest line of each stretch of the whole, of those within 20 dB of the strongest of all.
std::vector<double> nearly_as_loud(std::span<const double> samples, std::size_t length, double sample_rate_hz,
                                   SpectralTools& tools) {
  RealTransform& transform = tools.transforms.get(fast_transform_length(2 * length));
  const auto window = tools.windows.get(length, kLookBeta);
  const double hz_per_bin = sample_rate_hz / static_cast<double>(transform.length());
  const auto first = static_cast<std::size_t>(
      std::ceil(kLowestLookBin * static_cast<double>(transform.length()) / static_cast<double>(length)));
  std::vector<std::pair<double, double>> lines;  // power, Hz
  const std::size_t count = std::min<std::size_t>(kMostLooks, samples.size() / length);
  for (std::size_t i = 0; i < count; ++i) {
    std::vector<double> bins(transform.length() / 2 + 1, 0.0);
    add_power(samples.subspan(i * (samples.size() - length) / std::max<std::size_t>(1, count - 1), length),
              window, transform, bins);
    std::size_t top = std::min(first, bins.size() - 2);
    for (std::size_t b = top; b + 1 < bins.size(); ++b)
      if (bins[b] > bins[top]) top = b;
    if (top < 1 || !(bins[top] > 0)) continue;
    const double shift = crest_shift(bins[top - 1], bins[top], bins[top + 1]);
    lines.emplace_back(bins[top], (static_cast<double>(top) + shift) * hz_per_bin);
  }
  std::sort(lines.begin(), lines.end(), std::greater<>());
  std::vector<double> found;
  for (const auto& [power, hz] : lines) {
    if (power < power_ratio_from_db(-kMostSofterDb) * lines.front().first || found.size() >= kMostTones)
      break;
    if (std::none_of(found.begin(), found.end(),
                     [&, hz = hz](double other) { return std::abs(hz / other - 1) < kWantedWithin; }))
      found.push_back(hz);
  }
  return found;
}

}  // namespace

std::optional<SteadyTone> find_steady_tone(std::span<const double> samples, double sample_rate_hz,
                                           std::optional<double> wanted_hz, SpectralTools& tools) {
  if (samples.size() < 4 || peak(samples) == 0.0) return std::nullopt;
  // A power of two whose padded transform is one that the measurement plans anyway.
  const auto look =
      std::min<std::size_t>(samples.size(), std::bit_ceil(static_cast<std::size_t>(kLookS * sample_rate_hz)));
  SteadyTone tone{0, static_cast<std::int64_t>(samples.size()),
                  rough_frequency_hz(samples, look, sample_rate_hz, wanted_hz, tools)};

  Held held = held_at(samples, sample_rate_hz, tone.rough_hz);
  // Of tones one after the other the loudest may be the shortest.
  if (!wanted_hz && 2 * held.run.count < held.steps)
    for (const double hz : nearly_as_loud(samples, look, sample_rate_hz, tools)) {
      if (std::abs(hz / tone.rough_hz - 1) < kWantedWithin) continue;
      const Held other = held_at(samples, sample_rate_hz, hz);
      if (static_cast<double>(other.frames()) <= kPlainlyLonger * static_cast<double>(held.frames()))
        continue;
      held = other;
      tone.rough_hz = hz;
    }
  if (held.run.count == 0 || held.run.count == held.steps) return tone;
  const Run run = held.run;
  const std::size_t step = held.step;

  // Steps overlap by half; a step at a cut edge may already hold a little of what follows, so one is left out
  // there.
  const bool cut_start = run.first > 0, cut_end = run.first + run.count < held.steps;
  const std::size_t hop = step / 2;
  const std::size_t first = run.first * hop + (cut_start ? step : 0);
  const std::size_t end = cut_end ? (run.first + run.count - 1) * hop : samples.size();
  if (end <= first + step) return tone;
  tone.first_frame = static_cast<std::int64_t>(first);
  tone.frames = static_cast<std::int64_t>(end - first);
  return tone;
}

}  // namespace wavicon::measure_detail
