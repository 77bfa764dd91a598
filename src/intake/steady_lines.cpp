// SPDX-License-Identifier: MIT
#include "steady_lines.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include "samples.hpp"
#include "segment_delay.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kMiddle = 0.88;  // of the stretch: clear of its edges
constexpr std::size_t kMostTransform = 1 << 17;
constexpr std::size_t kLeastFrames = 4096;
constexpr double kKaiserBeta = 10;
constexpr double kOverMedian = 63;       // of the power: 18 dB
constexpr std::size_t kMedianBins = 40;  // to either side
constexpr double kUnderTop = 1e-8;       // of the power: 80 dB
constexpr double kApartBins = 3.2;
constexpr double kMostly = 0.97;  // of the power has to lie in the lines
constexpr std::size_t kMostLines = 40;
constexpr std::size_t kBlocks = 6;
constexpr double kLeastBlock = 8192;
constexpr double kPeriodsOfSpacing = 2.5;  // a block has to tell two lines apart
constexpr double kTwisted = 0.015;         // radians of scatter between blocks
constexpr double kLouder = 0.01;           // relative scatter of levels: 0.08 dB
constexpr double kCounts = 0.01;           // of the strongest amplitude: weaker ones may scatter
constexpr double kMostStray = 0.1;         // of the RMS
constexpr double kRampBlockPeriods = 6;
constexpr double kLeastRampS = 0.5, kLeastRampDb = 6, kMostRampDbPerS = 80;
constexpr double kUpperDb = 35, kOffDb = 0.1, kOffRad = 0.05;

using Complex = std::complex<double>;

// Rates of the lines that stand out, in cycles per frame.
std::vector<double> peaks_of(std::span<const double> x) {
  const std::size_t length = std::min(x.size(), kMostTransform);
  const auto part = x.subspan((x.size() - length) / 2, length);
  RealTransform transform(fast_transform_length(2 * length));
  const auto window = kaiser_window(length, kKaiserBeta);
  std::vector<double> faded(length);
  for (std::size_t n = 0; n < length; ++n) faded[n] = window[n] * part[n];
  const auto bins = transform.bins_of(faded);
  std::vector<double> power(bins.size());
  for (std::size_t k = 0; k < bins.size(); ++k) power[k] = std::norm(bins[k]);
  const double top = *std::max_element(power.begin(), power.end());
  const double per_bin = static_cast<double>(transform.length()) / static_cast<double>(length);
  const auto apart = static_cast<std::size_t>(std::ceil(kApartBins * per_bin));
  std::vector<double> rates, around;
  double held = 0, all = 0;
  for (const double p : power) all += p;
  for (std::size_t k = 2; k + 2 < power.size(); ++k) {
    if (power[k] < kUnderTop * top) continue;
    const std::size_t low = k > apart ? k - apart : 0, high = std::min(power.size(), k + apart + 1);
    if (power[k] < *std::max_element(power.begin() + static_cast<std::ptrdiff_t>(low),
                                     power.begin() + static_cast<std::ptrdiff_t>(high)))
      continue;
    const auto reach = static_cast<std::size_t>(static_cast<double>(kMedianBins) * per_bin);
    const std::size_t from = k > reach ? k - reach : 0, to = std::min(power.size(), k + reach);
    around.assign(power.begin() + static_cast<std::ptrdiff_t>(from),
                  power.begin() + static_cast<std::ptrdiff_t>(to));
    std::nth_element(around.begin(), around.begin() + static_cast<std::ptrdiff_t>(around.size() / 2),
                     around.end());
    if (power[k] < kOverMedian * around[around.size() / 2]) continue;
    rates.push_back((static_cast<double>(k) + line_offset(power[k - 1], power[k], power[k + 1])) /
                    static_cast<double>(transform.length()));
    for (std::size_t i = low; i < high; ++i) held += power[i];
    if (rates.size() > kMostLines) break;
  }
  // Else no fit would leave little of it.
  if (held < kMostly * all) rates.clear();
  return rates;
}

// Complex amplitudes of all lines at once over one block, phases at the block's middle.
std::vector<Complex> amplitudes(std::span<const double> block, const std::vector<double>& rates) {
  const std::size_t count = 2 * rates.size() + 1;
  std::vector<double> matrix(count * count, 0.0), right(count, 0.0), row(count);
  const double middle = 0.5 * static_cast<double>(block.size() - 1);
  const auto window = hann_window(block.size());
  for (std::size_t n = 0; n < block.size(); ++n) {
    const double h = window[n];
    for (std::size_t i = 0; i < rates.size(); ++i) {
      const double turn = 2 * std::numbers::pi * rates[i] * (static_cast<double>(n) - middle);
      row[2 * i] = std::sin(turn);
      row[2 * i + 1] = std::cos(turn);
    }
    row[count - 1] = 1;
    for (std::size_t i = 0; i < count; ++i) {
      right[i] += h * row[i] * block[n];
      for (std::size_t k = 0; k <= i; ++k) matrix[i * count + k] += h * row[i] * row[k];
    }
  }
  const SymmetricSystem system(matrix, count);
  if (!system.well_posed()) return {};
  const auto solved = system.solve(right);
  std::vector<Complex> found(rates.size());
  for (std::size_t i = 0; i < rates.size(); ++i) found[i] = {solved[2 * i], solved[2 * i + 1]};
  return found;
}

}  // namespace

std::optional<SteadyLines> steady_lines(std::span<const double> x) {
  const auto frames = static_cast<std::size_t>(kMiddle * static_cast<double>(x.size()));
  if (frames < kLeastFrames) return std::nullopt;
  const std::size_t from = (x.size() - frames) / 2;
  const auto middle = x.subspan(from, frames);
  auto rates = peaks_of(middle);
  if (rates.size() < 2 || rates.size() > kMostLines) return std::nullopt;
  double spacing = rates.front();
  for (std::size_t i = 1; i < rates.size(); ++i) spacing = std::min(spacing, rates[i] - rates[i - 1]);
  const auto length = static_cast<std::size_t>(std::max(kLeastBlock, kPeriodsOfSpacing / spacing));
  const std::size_t count = std::min(kBlocks, frames / std::min(length, frames)),
                    block = count > 1 ? length : frames;
  if (count < 2) return std::nullopt;
  std::vector<std::vector<Complex>> seen;
  std::vector<double> places;
  for (int round = 0; round < 3; ++round) {
    seen.clear();
    places.clear();
    for (std::size_t i = 0; i < count; ++i) {
      const std::size_t at = i * (frames - block) / (count - 1);
      seen.push_back(amplitudes(middle.subspan(at, block), rates));
      if (seen.back().empty()) return std::nullopt;
      places.push_back(static_cast<double>(at) + 0.5 * static_cast<double>(block - 1));
    }
    for (std::size_t l = 0; l < rates.size(); ++l) {
      // The slope of its phase beside the rate, by neighbouring blocks first.
      double sum = 0, slope = 0, squares = 0, last = 0, centre = 0;
      std::vector<double> beside;
      for (std::size_t i = 0; i < count; ++i) {
        double phase = std::arg(seen[i][l]) / (2 * std::numbers::pi) - rates[l] * places[i];
        phase -= std::round(phase - (i == 0 ? phase : last));
        last = phase;
        beside.push_back(phase);
        sum += phase / static_cast<double>(count);
        centre += places[i] / static_cast<double>(count);
      }
      for (std::size_t i = 0; i < count; ++i) {
        slope += (beside[i] - sum) * (places[i] - centre);
        squares += (places[i] - centre) * (places[i] - centre);
      }
      rates[l] += slope / squares;
    }
  }
  SteadyLines found;
  double top = 0;
  for (std::size_t l = 0; l < rates.size(); ++l) {
    SteadyLine line{rates[l]};
    Complex mean = 0;
    for (std::size_t i = 0; i < count; ++i)
      mean += seen[i][l] * std::polar(1.0, -2 * std::numbers::pi * rates[l] * places[i]) /
              static_cast<double>(count);
    for (std::size_t i = 0; i < count; ++i)
      line.amplitude += std::abs(seen[i][l]) / static_cast<double>(count);
    line.phase_cycles = std::arg(mean) / (2 * std::numbers::pi) - rates[l] * static_cast<double>(from);
    top = std::max(top, line.amplitude);
    found.lines.push_back(line);
  }
  for (std::size_t l = 0; l < rates.size(); ++l) {
    const SteadyLine& line = found.lines[l];
    if (line.amplitude < kCounts * top) continue;
    for (std::size_t i = 0; i < count; ++i) {
      const double turned =
          std::remainder(std::arg(seen[i][l]) / (2 * std::numbers::pi) - line.phase_cycles -
                             line.cycles_per_frame * (places[i] + static_cast<double>(from)),
                         1.0);
      if (std::abs(turned) * 2 * std::numbers::pi > kTwisted ||
          std::abs(std::abs(seen[i][l]) / line.amplitude - 1) > kLouder)
        return std::nullopt;
    }
  }
  double left = 0, all = 0;
  const std::size_t step = std::max<std::size_t>(1, frames / 65536);
  for (std::size_t n = 0; n < frames; n += step) {
    double v = middle[n];
    all += v * v;
    for (const SteadyLine& line : found.lines)
      v -= line.amplitude *
           std::sin(2 * std::numbers::pi *
                    (line.phase_cycles + line.cycles_per_frame * static_cast<double>(from + n)));
    left += v * v;
  }
  found.stray = all > 0 ? std::sqrt(left / all) : 1;
  return found.stray < kMostStray ? std::optional(found) : std::nullopt;
}

std::optional<LevelRamp> level_ramp(std::span<const double> x, double rate) {
  if (static_cast<double>(x.size()) < kLeastRampS * rate) return std::nullopt;
  // The rate from where it is loudest.
  const auto look = static_cast<std::size_t>(0.17 * rate);
  std::size_t loudest = 0;
  double most = -1;
  for (std::size_t at = 0; at + look <= x.size(); at += look / 2) {
    double sum = 0;
    for (std::size_t n = 0; n < look; ++n) sum += x[at + n] * x[at + n];
    if (sum > most) {
      most = sum;
      loudest = at;
    }
  }
  RealTransform transform(fast_transform_length(4 * look));
  const auto window = kaiser_window(look, kKaiserBeta);
  std::vector<double> part(look);
  for (std::size_t n = 0; n < look; ++n) part[n] = window[n] * x[loudest + n];
  const auto bins = transform.bins_of(part);
  const auto top =
      std::max_element(bins.begin() + 1, bins.end(),
                       [](const Complex& p, const Complex& q) { return std::norm(p) < std::norm(q); }) -
      bins.begin();
  double turn = static_cast<double>(top) / static_cast<double>(transform.length());
  if (!(turn * static_cast<double>(look) > 8 && turn < 0.49)) return std::nullopt;
  LevelRamp ramp;
  for (int round = 0; round < 4; ++round) {
    const auto block = static_cast<std::size_t>(std::ceil(std::max(kRampBlockPeriods, 64 * turn)) / turn);
    std::vector<double> at, phases, logs;
    double last = 0, top_log = -1e300;
    const std::size_t hop = std::max(block / 2, x.size() / 2000);
    for (std::size_t n = 0; n + block <= x.size(); n += hop) {
      const double middle = 0.5 * static_cast<double>(block - 1);
      const Complex seen = sine_amplitude(x.subspan(n, block), turn);
      if (std::abs(seen) < 1e-12) return std::nullopt;
      const double place = static_cast<double>(n) + middle;
      double phase = std::arg(seen) / (2 * std::numbers::pi) - turn * place;
      phase -= std::round(phase - (at.empty() ? phase : last));
      last = phase;
      at.push_back(place);
      phases.push_back(phase);
      logs.push_back(db_from_ratio(std::abs(seen)));
      top_log = std::max(top_log, logs.back());
    }
    if (at.size() < 8) return std::nullopt;
    const auto line = [&](const std::vector<double>& y) {
      double n = 0, t = 0, v = 0, tt = 0, tv = 0;
      for (std::size_t i = 0; i < at.size(); ++i) {
        if (logs[i] < top_log - kUpperDb) continue;
        n += 1;
        t += at[i];
        v += y[i];
        tt += at[i] * at[i];
        tv += at[i] * y[i];
      }
      const double slope = (n * tv - t * v) / (n * tt - t * t);
      return std::pair{(v - slope * t) / n, slope};
    };
    const auto [phase, slope] = line(phases);
    const auto [level, run] = line(logs);
    if (round < 3) {
      turn += slope;
      continue;
    }
    const double seconds = static_cast<double>(x.size()) / rate,
                 range = std::abs(run) * static_cast<double>(x.size());
    if (!(range > kLeastRampDb && range / seconds < kMostRampDbPerS)) return std::nullopt;
    for (std::size_t i = 0; i < at.size(); ++i) {
      if (logs[i] < top_log - kUpperDb) continue;
      const double off = std::abs(logs[i] - level - run * at[i]);
      ramp.off_db = std::max(ramp.off_db, off);
      if (off > kOffDb || std::abs(phases[i] - phase - slope * at[i]) * 2 * std::numbers::pi > kOffRad)
        return std::nullopt;
    }
    ramp.cycles_per_frame = turn + slope;
    ramp.phase_cycles = phase;
    ramp.from_amplitude = ratio_from_db(level);
    ramp.to_amplitude = ratio_from_db(level + run * static_cast<double>(x.size()));
  }
  return ramp;
}

}  // namespace wavicon::intake_detail
