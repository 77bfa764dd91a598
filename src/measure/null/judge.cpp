// SPDX-License-Identifier: MIT
#include "measure/null/judge.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "audio/wide.hpp"
#include "measure/common/density.hpp"
#include "measure/common/mains.hpp"
#include "measure/common/welch.hpp"
#include "measure/common/words.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/weighting.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kLowRateHz = 2000;
constexpr double kMostLowS = 120;
constexpr double kLeastMainsS = 1;
constexpr double kLinesFromHum = 0.5;  // share of the residual
constexpr double kLines = 0.5;         // share of the residual
constexpr double kLinear = 0.5;        // share of the residual
constexpr double kFollows = 0.3;       // correlation of levels
constexpr double kSteadyDb = 2;        // spread of a noise's level over 20 ms
constexpr double kNothingDbfs = -150;
constexpr double kLeastCoherence = 0.9;  // for a point of the response
constexpr double kUnalikeDb = -3;

// Rounding differences of one grid: undithered 0.29 of a step, dithered by TPDF 0.5, two dithered files 0.71.
constexpr double kRoundingRms = 0.85;
constexpr double kRoundingPeak = 3.2;  // steps: dither and two roundings reach three

double step_of(int bits) { return std::ldexp(1.0, 1 - bits); }

// Where the middle 80 % of the residual's power within the band lie.
std::string range_text(const NullResult& result, const ChannelNull& c) {
  double total = 0, sum = 0, low = 0, high = 0;
  const auto power = [&](std::size_t i) {
    return c.hz[i] >= result.options.band_from_hz && c.hz[i] <= result.band_to_hz ? c.residual_density[i]
                                                                                  : 0.0;
  };
  for (std::size_t i = 0; i < c.hz.size(); ++i) total += power(i);
  for (std::size_t i = 0; i < c.hz.size(); ++i) {
    if (sum < 0.1 * total) low = c.hz[i];
    if (sum < 0.9 * total) high = c.hz[i];
    sum += power(i);
  }
  return fmt::format("mostly from {} to {}", hz_text(std::max(low, 10.0)), hz_text(high));
}

// Whether a density stands still from octave to octave.
bool is_level(const NullResult& result, const ChannelNull& c, bool over_a) {
  constexpr double kLevelDb = 3;
  double low = 1e300, high = 0;
  int octaves = 0;
  for (double from = std::max(31.25, result.options.band_from_hz); 2 * from <= result.band_to_hz; from *= 2) {
    double rest = 0, reference = 0, bins = 0;
    for (std::size_t i = 0; i < c.hz.size(); ++i) {
      if (c.hz[i] < from || c.hz[i] >= 2 * from) continue;
      rest += c.residual_density[i];
      reference += c.reference_density[i];
      ++bins;
    }
    if (bins < 1 || (over_a && !(reference > 0))) continue;
    const double value = rest / (over_a ? reference : bins);
    low = std::min(low, value);
    high = std::max(high, value);
    ++octaves;
  }
  return octaves >= 4 && low > 0 && db_from_power_ratio(high / low) < kLevelDb;
}

// White noise lies mostly at the top by itself, and programme where the programme is: no band is to blame.
std::string spread_text(const NullResult& result, const ChannelNull& c) {
  if (is_level(result, c, false)) return "white, spread evenly over frequency";
  if (is_level(result, c, true)) return "spread over frequency as A is";
  return range_text(result, c);
}

// The largest deviation of B's response from A's.
std::string response_text(const ChannelNull& c) {
  double most = 0, at = 0;
  for (std::size_t i = 0; i < c.response.size(); ++i) {
    const double db = db_from_ratio(std::max(1e-6, c.response[i]));
    if (std::abs(db) > std::abs(most)) {
      most = db;
      at = c.response_hz[i];
    }
  }
  if (std::abs(most) < 0.02)
    return "B has the same levels and another phase: a delay, an all-pass or a polarity in a band";
  return fmt::format("B differs by up to {:+.2f} dB, at {}", most, hz_text(at));
}

void set(ChannelNull& c, NullVerdict verdict, std::string reason) {
  c.verdict = verdict;
  c.reason = std::move(reason);
}

// Whether what is left is what rounding to one of the two grids leaves.
bool is_rounding(const NullResult& result, ChannelNull& c) {
  struct Grid {
    int bits;
    double step;
    const char* whose;
  };
  const bool unity = c.gain == 1 || std::abs(db_from_ratio(c.gain)) < 1e-3;
  std::vector<Grid> grids;
  if (result.used_bits_a > 0) grids.push_back({result.used_bits_a, step_of(result.used_bits_a), "A"});
  if (result.used_bits_b > 0)
    grids.push_back({result.used_bits_b, step_of(result.used_bits_b) / c.gain, "B"});
  std::sort(grids.begin(), grids.end(), [](const Grid& p, const Grid& q) { return p.step > q.step; });
  for (const Grid& grid : grids) {
    const double rms = c.residual_rms / grid.step, peak = c.residual_peak / grid.step;
    const bool bare = peak < 0.51;
    const bool dithered =
        rms < kRoundingRms && rms > 0.2 && peak < kRoundingPeak && c.level_spread_db < kSteadyDb;
    if (!bare && !dithered) continue;
    if (bare && rms < 0.02) continue;  // far less than this grid
    const char* how = bare ? "no dither" : rms < 0.6 ? "dithered" : "both dithered";
    set(c, NullVerdict::rounding,
        fmt::format("no more than rounding to {} bits leaves: {:.2f} of a step RMS, {:.1f} at most ({}){}",
                    grid.bits, rms, peak, how, unity ? "" : ", after the gain"));
    return true;
  }
  return false;
}

// Share of the residual that is lines which stand still: peaks as wide as a window's lobe, with a valley on
// both sides; an offset is one at 0 Hz. Of too few windows noise has such peaks as well: 0.
double steady_lines(const NullResult& result, const ChannelNull& c) {
  constexpr std::int64_t kLeastWindows = 6;
  constexpr std::size_t kLobeBins = 3, kValleyBins = 6;
  constexpr double kValley = 0.01;  // of the peak
  if (c.windows < kLeastWindows) return 0;
  const auto& density = c.residual_density;
  double all = 0, lines = 0;
  std::vector<bool> taken(density.size(), false);
  for (std::size_t k = 0; k < density.size(); ++k)
    if (c.hz[k] >= result.options.band_from_hz && c.hz[k] <= result.band_to_hz) all += density[k];
  if (density.size() > kValleyBins && result.options.band_from_hz <= 0 &&
      *std::min_element(density.begin() + kLobeBins, density.begin() + kValleyBins + 1) <
          kValley * density[0])
    for (std::size_t i = 0; i <= kLobeBins; ++i) {
      taken[i] = true;
      lines += density[i];
    }
  for (std::size_t k = kValleyBins; k + kValleyBins < density.size(); ++k) {
    if (c.hz[k] < result.options.band_from_hz || c.hz[k] > result.band_to_hz) continue;
    if (density[k] < density[k - 1] || density[k] < density[k + 1]) continue;
    const auto valley = [&](std::size_t from) {
      const auto first = density.begin() + static_cast<std::ptrdiff_t>(from);
      return *std::min_element(first, first + (kValleyBins - kLobeBins + 1));
    };
    if (std::max(valley(k - kValleyBins), valley(k + kLobeBins)) > kValley * density[k]) continue;
    for (std::size_t i = k - kLobeBins; i <= k + kLobeBins; ++i)
      if (!taken[i]) {
        taken[i] = true;
        lines += density[i];
      }
  }
  return all > 0 ? lines / all : 0;
}

void judge_channel(const NullResult& result, ChannelNull& c) {
  if (result.equal || c.residual_peak == 0)
    return set(c, NullVerdict::identical,
               result.equal ? "every sample is the same, bit for bit" : "nothing is left");
  if (is_rounding(result, c)) return;
  if (db_from_ratio(c.residual_rms) < kNothingDbfs)
    return set(c, NullVerdict::rounding,
               "less than any 24-bit file can hold: rounding of floats or of the interpolation");
  if (c.line_share > kLinesFromHum)
    return set(c, NullVerdict::hum,
               fmt::format("{:.0f} % of it are lines of {:.2f} Hz", 100 * c.line_share, c.mains_hz));
  const double depth_db = db_from_ratio(c.depth);
  if (c.coherent_share > kLinear)
    return set(c, NullVerdict::linear,
               fmt::format("{:.0f} % of it is the programme itself through a filter: {}",
                           100 * c.coherent_share, response_text(c)));
  if (depth_db > kUnalikeDb)
    return set(c, NullVerdict::programme,
               "the two have little in common: other programme, or what was lined up is not the same");
  if (c.follows > kFollows || c.level_spread_db > kSteadyDb)
    return set(c, NullVerdict::programme,
               fmt::format("it follows the programme (its level does by {:.2f}, {:.0f} % of it is linear): "
                           "saturation, a gain "
                           "that moves, or something added; {}",
                           c.follows, 100 * c.coherent_share, spread_text(result, c)));
  // What is steady is no noise where A is steady as well.
  if (const double lines = steady_lines(result, c); lines > kLines)
    return set(
        c, NullVerdict::programme,
        fmt::format(
            "{:.0f} % of it are lines that stand still: what saturation adds to a steady tone, an offset, or "
            "a tone that one of them has alone; {}",
            100 * std::min(1.0, lines), range_text(result, c)));
  set(c, NullVerdict::noise,
      fmt::format("no difference but noise: it is steady, {}", spread_text(result, c)));
}

// Codes of 24 bits joined, and whether any sample is none.
WAVICON_WIDE void join_codes(const double* samples, std::size_t count, std::int32_t* all, std::int32_t* off) {
  std::int32_t joined = 0, wrong = 0;
  for (std::size_t n = 0; n < count; ++n) {
    const double scaled = samples[n] * 8388608.0;
    const auto whole = static_cast<std::int32_t>(std::min(std::max(scaled, -2147483647.0), 2147483647.0));
    wrong |= static_cast<std::int32_t>(static_cast<double>(whole) != scaled);
    joined |= whole;
  }
  *all = joined;
  *off = wrong;
}

}  // namespace

void UsedBits::add(std::span<const double> samples) {
  if (off_grid_) return;
  // In pieces, so that the processor does not decide after each sample.
  constexpr std::size_t kPiece = 256;
  for (std::size_t at = 0; at < samples.size(); at += kPiece) {
    const auto piece = samples.subspan(at, std::min(kPiece, samples.size() - at));
    std::int32_t all = 0, off = 0;
    join_codes(piece.data(), piece.size(), &all, &off);
    if (off != 0) {
      off_grid_ = true;
      return;
    }
    all_ |= static_cast<std::uint32_t>(all);
  }
}

int UsedBits::bits() const { return off_grid_ ? 0 : all_ == 0 ? 1 : 24 - std::countr_zero(all_); }

ResidualMeter::ResidualMeter(double rate, std::size_t hop, std::int64_t frames)
    : rate_(rate),
      hop_(hop),
      spectra_(rate, frames),
      decimate_(std::max<std::size_t>(1, static_cast<std::size_t>(rate / kLowRateHz)), 0.4) {}

void ResidualMeter::add(std::int64_t first_frame, std::span<const double> reference,
                        std::span<const double> residual) {
  if (first_frame_ < 0) first_frame_ = first_frame;
  for (std::size_t at = 0; at < residual.size(); at += hop_) {
    const std::size_t end = std::min(at + hop_, residual.size());
    double x = 0, r = 0;
    for (std::size_t n = at; n < end; ++n) {
      x += reference[n] * reference[n];
      r += residual[n] * residual[n];
      if (std::abs(residual[n]) > peak_) {
        peak_ = std::abs(residual[n]);
        peak_frame_ = first_frame + static_cast<std::int64_t>(n);
      }
    }
    reference_square_ += x;
    residual_square_ += r;
    if (end - at < hop_ && !reference_hops_.empty()) break;  // a piece of a hop at the end
    reference_hops_.push_back(x / static_cast<double>(end - at));
    residual_hops_.push_back(r / static_cast<double>(end - at));
  }
  frames_ += static_cast<std::int64_t>(residual.size());
  spectra_.add(reference, residual);
  add_low(residual);
}

void ResidualMeter::add_low(std::span<const double> residual) {
  if (static_cast<double>(low_.size()) > kMostLowS * kLowRateHz) return;
  pending_.insert(pending_.end(), residual.begin(), residual.end());
  if (pending_.size() < decimate_.length()) return;
  const auto low = decimate_(pending_);
  low_.insert(low_.end(), low.begin(), low.end());
  pending_.erase(pending_.begin(),
                 pending_.begin() + static_cast<std::ptrdiff_t>(low.size() * decimate_.step()));
}

// Whether the residual's level goes with the programme's, where there is programme.
void ResidualMeter::compare_levels(ChannelNull& channel) const {
  double n = 0, x = 0, y = 0, xx = 0, yy = 0, xy = 0;
  for (std::size_t i = 0; i < reference_hops_.size(); ++i) {
    if (reference_hops_[i] <= 0) continue;
    const double a = db_from_power_ratio(reference_hops_[i]),
                 b = db_from_power_ratio(residual_hops_[i] + 1e-24);
    n += 1;
    x += a;
    y += b;
    xx += a * a;
    yy += b * b;
    xy += a * b;
  }
  if (n < 10) return;
  const double vx = xx / n - x * x / n / n, vy = yy / n - y * y / n / n;
  channel.level_spread_db = std::sqrt(std::max(0.0, vy));
  // Two levels that hardly move agree by chance.
  if (vx > 0.25 && vy > 0.25) channel.follows = (xy / n - x * y / n / n) / std::sqrt(vx * vy);
}

void ResidualMeter::finish(double band_from_hz, double band_to_hz, ChannelNull& channel) {
  const auto frames = static_cast<double>(std::max<std::int64_t>(1, frames_));
  channel.reference_rms = std::sqrt(reference_square_ / frames);
  channel.residual_rms = std::sqrt(residual_square_ / frames);
  channel.residual_peak = peak_;
  channel.residual_peak_s = static_cast<double>(peak_frame_) / rate_;
  channel.silent = channel.reference_rms == 0;
  if (channel.silent) return;
  channel.depth = channel.residual_rms / channel.reference_rms;
  compare_levels(channel);
  for (std::size_t i = 0; i < residual_hops_.size(); ++i) {
    channel.reference_over_time.push_back(std::sqrt(reference_hops_[i]));
    channel.residual_over_time.push_back(std::sqrt(residual_hops_[i]));
  }
  if (!residual_hops_.empty())
    channel.worst_s = static_cast<double>(first_frame_) / rate_ +
                      static_cast<double>((std::max_element(residual_hops_.begin(), residual_hops_.end()) -
                                           residual_hops_.begin()) *
                                          static_cast<std::ptrdiff_t>(hop_)) /
                          rate_;
  if (spectra_.windows() == 0) return;
  add_densities(band_from_hz, band_to_hz, channel);
  weigh(band_from_hz, band_to_hz, channel);
  add_third_octaves(channel);
  add_mains(channel);
  add_uncertainties(band_from_hz, band_to_hz, channel);
}

// What a window leaves of a steady tone far from it keeps in step with the tone's harmonics: without this a
// saturated tone is a filtered one.
std::vector<bool> ResidualMeter::own_power() const {
  constexpr std::size_t kMostLines = 64;
  constexpr double kOver = 4;  // power, over what the skirts bring
  const auto& power = spectra_.xx();
  std::vector<std::size_t> peaks;
  for (std::size_t k = 1; k + 1 < power.size(); ++k)
    if (power[k] > 0 && power[k] >= power[k - 1] && power[k] > power[k + 1]) peaks.push_back(k);
  const std::size_t count = std::min(kMostLines, peaks.size());
  std::partial_sort(peaks.begin(), peaks.begin() + static_cast<std::ptrdiff_t>(count), peaks.end(),
                    [&](std::size_t a, std::size_t b) { return power[a] > power[b]; });
  const double half_width = kaiser_half_width_bins(spectra_.beta());
  std::vector<bool> own(power.size());
  for (std::size_t k = 0; k < power.size(); ++k) {
    double leaked = 0;
    for (std::size_t i = 0; i < count; ++i) {
      const double distance = std::abs(static_cast<double>(k) - static_cast<double>(peaks[i]));
      if (distance <= half_width) continue;
      const double skirt = kaiser_skirt_ratio(spectra_.beta(), distance - half_width);
      leaked = std::max(leaked, power[peaks[i]] * skirt * skirt);
    }
    own[k] = power[k] > kOver * leaked;
  }
  return own;
}

void ResidualMeter::add_densities(double band_from_hz, double band_to_hz, ChannelNull& channel) const {
  const auto &reference_power = spectra_.xx(), &residual_power = spectra_.yy();
  const auto& cross = spectra_.xy();
  const double scale = spectra_.density_scale();
  const auto windows = static_cast<double>(spectra_.windows());
  channel.windows = spectra_.windows();
  const std::vector<bool> own = own_power();
  double coherent = 0, all = 0, moved = 0;
  for (std::size_t k = 0; k < cross.size(); ++k) {
    channel.hz.push_back(static_cast<double>(k) * spectra_.bin_hz());
    channel.reference_density.push_back(reference_power[k] * scale);
    channel.residual_density.push_back(residual_power[k] * scale);
    if (channel.hz[k] < band_from_hz || channel.hz[k] > band_to_hz) continue;
    all += residual_power[k];
    if (own[k] && reference_power[k] > 0 && residual_power[k] > 0) {
      const double share = std::norm(cross[k]) / (reference_power[k] * residual_power[k]);
      // So many windows agree by chance with a share of one over their number.
      const double chance = 1.0 / windows,
                   true_share = std::max(0.0, (share - chance) / (1 - chance + 1e-12)),
                   apart = 1 - true_share;
      coherent += residual_power[k] * true_share;
      // Of a share from so many windows (Bendat and Piersol, to verify), and of none.
      moved += residual_power[k] * residual_power[k] * apart * apart *
               (2 * true_share / windows + 1 / (windows * windows));
    }
  }
  channel.coherent_share = all > 0 && windows > 3 ? coherent / all : 0;
  // Neighbouring bins share a window's lobe.
  if (all > 0) channel.coherent_uncertainty = 2 * std::sqrt(moved * spectra_.plan().noise_bins) / all;
}

void ResidualMeter::weigh(double band_from_hz, double band_to_hz, ChannelNull& channel) const {
  const double bin = spectra_.bin_hz();
  auto ratio = [&](auto&& weight) {
    const double x = band_power(channel.reference_density, bin, band_from_hz, band_to_hz, weight),
                 r = band_power(channel.residual_density, bin, band_from_hz, band_to_hz, weight);
    return x > 0 ? std::sqrt(r / x) : 0.0;
  };
  if (band_from_hz > 0 || band_to_hz < 0.999 * rate_ / 2) {
    const auto plain = [](double) { return 1.0; };
    channel.depth = ratio(plain);
    channel.residual_rms =
        std::sqrt(band_power(channel.residual_density, bin, band_from_hz, band_to_hz, plain));
    channel.reference_rms =
        std::sqrt(band_power(channel.reference_density, bin, band_from_hz, band_to_hz, plain));
  }
  channel.depth_a = ratio(a_weight);
  channel.depth_k = ratio(k_weight);
  channel.residual_k = band_power(channel.residual_density, bin, band_from_hz, band_to_hz, k_weight);
}

void ResidualMeter::add_third_octaves(ChannelNull& channel) const {
  const std::vector<bool> own = own_power();
  const auto &reference_power = spectra_.xx(), &residual_power = spectra_.yy();
  const auto& cross = spectra_.xy();
  const double bin = spectra_.bin_hz(), half = std::pow(10.0, 0.05);
  for (int band = -17; band <= 13; ++band) {  // 20 Hz to 20 kHz
    const double centre = 1000 * std::pow(10.0, band / 10.0), from = centre / half, to = centre * half;
    if (to > rate_ / 2 || to - from < bin) continue;
    const double x = band_power(channel.reference_density, bin, from, to, [](double) { return 1.0; }),
                 r = band_power(channel.residual_density, bin, from, to, [](double) { return 1.0; });
    if (x <= 0) continue;
    channel.third_octave_hz.push_back(centre);
    channel.third_octave_depth.push_back(std::sqrt(r / x));
    // B over A: 1 less the part of the residual that is linear in A.
    std::complex<double> c = 0;
    double p = 0, y = 0;
    for (auto k = static_cast<std::size_t>(std::ceil(from / bin));
         k < cross.size() && static_cast<double>(k) * bin <= to; ++k) {
      if (!own[k]) continue;
      c += cross[k];
      p += reference_power[k];
      y += reference_power[k] - 2 * cross[k].real() + residual_power[k];
    }
    if (p <= 0 || y <= 0 || std::norm(p - c) < kLeastCoherence * p * y) continue;
    channel.response_hz.push_back(centre);
    channel.response.push_back(std::abs(1.0 - c / p));
  }
}

void ResidualMeter::add_mains(ChannelNull& channel) {
  const double low_rate = rate_ / static_cast<double>(decimate_.step());
  if (static_cast<double>(low_.size()) <= kLeastMainsS * low_rate || residual_square_ <= 0) return;
  const MainsComb comb = find_mains(low_, low_rate);
  double lines = 0;
  for (const MainsLine& line : comb.lines) {
    lines += line.peak * line.peak / 2;
    line_hz_.push_back(line.hz);
  }
  channel.line_share = std::min(1.0, lines / (channel.residual_rms * channel.residual_rms));
  channel.mains_hz = comb.base_hz;
}

void ResidualMeter::add_uncertainties(double band_from_hz, double band_to_hz, ChannelNull& channel) const {
  const WelchPlan plan = spectra_.plan();
  const PowerSpread chance = spectra_.spread();
  Density noise(channel.residual_density, plan);
  for (const double hz : line_hz_) noise.cut(hz);
  const auto of = [&](double (*weight)(double)) {
    return chance.uncertainty_db(channel.residual_density, noise.values(), plan.bin_hz(), band_from_hz,
                                 band_to_hz, weight);
  };
  // Of all frames alike, where they were summed as they are.
  const bool whole = band_from_hz == 0 && band_to_hz >= 0.999 * rate_ / 2;
  const double seconds = static_cast<double>(frames_) / rate_;
  channel.depth_uncertainty_db = of(unweighted) * (whole ? std::sqrt(chance.seconds() / seconds) : 1);
  channel.depth_a_uncertainty_db = of(a_weight);
  channel.depth_k_uncertainty_db = of(k_weight);
}

void judge(NullResult& result) {
  for (ChannelNull& c : result.channels) {
    if (c.silent && !result.equal && c.residual_peak > 0)
      set(c, NullVerdict::programme, "A is silent here and B is not");
    else
      judge_channel(result, c);
    result.verdict = std::max(result.verdict, c.verdict);
  }
  // What is missing or too much is a difference, whatever the rest is; with a delay that was given one side
  // was asked for.
  if (!result.alignment.slips.empty() && !result.options.delay_samples)
    result.verdict = NullVerdict::programme;
}

}  // namespace wavicon::measure_detail
