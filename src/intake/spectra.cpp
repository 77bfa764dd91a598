// SPDX-License-Identifier: MIT
#include "spectra.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/decimator.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::intake_detail {
namespace {

// Blocks spread over a source, overlapping by at most three quarters.
std::int64_t spread_blocks(const AudioSource& source, std::int64_t length, std::int64_t most) {
  return source.frames() < length ? 0 : std::min(most, (source.frames() - length) / ((length + 3) / 4) + 1);
}

template <typename Take>
void for_spread_blocks(AudioSource& source, const Audio* held, std::int64_t length, std::int64_t most,
                       Take&& take) {
  const auto channels = static_cast<std::size_t>(source.channel_count()),
             frames = static_cast<std::size_t>(length);
  std::vector<double> planar(held != nullptr ? 0 : channels * frames);
  const std::int64_t count = spread_blocks(source, length, most);
  for (std::int64_t block = 0; block < count; ++block) {
    const std::int64_t at = count == 1 ? 0 : block * (source.frames() - length) / (count - 1);
    if (held == nullptr) source.read(at, planar);
    for (std::size_t c = 0; c < channels; ++c)
      take(c, held != nullptr
                  ? held->channel(static_cast<int>(c)).subspan(static_cast<std::size_t>(at), frames)
                  : std::span<const double>(planar).subspan(c * frames, frames));
  }
}

namespace band {

constexpr double kBlockS = 0.1;
constexpr double kBeta = 14;  // skirts 100 dB down and falling: a tone does not fill the place above the band
constexpr std::int64_t kBlocks = 64;
constexpr double kBandsPerOctave = 12;  // of what is looked at for an end of the band
constexpr double kCliffDb = 30;
constexpr double kHighestOfHalfRate = 0.85;  // an end above it is the anti-alias filter's
constexpr double kLowestHz = 1000;
constexpr double kFilledDb =
    40;  // the octave below the end has to be filled to within this of its highest band
constexpr double kNothingDb = -200;

// Mean density in bands of a twelfth of an octave from kLowestHz to half the rate, in dB.
std::vector<double> densities(const std::vector<double>& power, double rate) {
  std::vector<double> result;
  const double step = std::exp2(1 / kBandsPerOctave);
  const double bin = rate / 2 / static_cast<double>(power.size() - 1);
  for (double low = kLowestHz; low * step <= rate / 2; low *= step) {
    const auto first = static_cast<std::size_t>(low / bin),
               end = std::min(power.size(), static_cast<std::size_t>(low * step / bin) + 1);
    double sum = 0;
    for (std::size_t b = first; b < end; ++b) sum += power[b];
    result.push_back(
        std::max(kNothingDb, db_from_power_ratio(sum / static_cast<double>(end - first) + 1e-300)));
  }
  return result;
}

std::optional<double> end_of(const std::vector<double>& bands, double rate) {
  constexpr std::size_t kOctave = 12, kFall = 2;
  for (std::size_t end = bands.size(); end-- > kOctave;) {
    const double here = bands[end];
    // Everything above lies far below the band that ends here, and the octave below is filled.
    const std::size_t above = end + kFall;
    if (above >= bands.size()) continue;
    const double highest_above =
        *std::max_element(bands.begin() + static_cast<std::ptrdiff_t>(above), bands.end());
    const double lowest_below = *std::min_element(bands.begin() + static_cast<std::ptrdiff_t>(end - kOctave),
                                                  bands.begin() + static_cast<std::ptrdiff_t>(end + 1));
    if (here - highest_above < kCliffDb) continue;
    const double hz = kLowestHz * std::exp2((static_cast<double>(end) + 1) / kBandsPerOctave);
    const bool filled = here - lowest_below < kFilledDb && lowest_below - highest_above > kCliffDb / 2;
    return filled && hz < kHighestOfHalfRate * rate / 2 ? std::optional(hz) : std::nullopt;
  }
  return std::nullopt;
}

}  // namespace band

namespace hum {

constexpr double kBlockS = 1;
constexpr std::int64_t kBlocks = 16;
constexpr std::size_t kLeastBlocks = 3;  // fewer tell nothing of the quiet between words
constexpr std::size_t kQuietShare = 4;   // the quietest quarter of the blocks is looked at
constexpr double kLowRateHz = 2000;      // what a block is brought down to before it is transformed
constexpr double kCutoff = 0.35;         // of it
constexpr double kBeta = 8;              // lines are 2.7 Hz wide to either side
constexpr double kStraysHz = 0.3;
constexpr double kAroundFromHz = 4, kAroundToHz = 8;  // where the noise beside a line is looked at
constexpr double kStandsOut = 5.6;                    // 15 dB
constexpr double kLeastPeak = 1e-5;                   // -100 dBFS
constexpr int kLines = 6, kNeeded = 2;                // of mains: looked at, and what has to stand out

// Amplitude of each line of a comb where it stands out of what lies beside it, else 0.
using Lines = std::array<double, kLines>;

struct Look {
  double energy = 0;  // of the low band
  std::array<Lines, 2> combs{};
};
constexpr std::array kBasesHz = {50.0, 60.0};

Lines lines_of(const std::vector<double>& amplitudes, double bin_hz, double base_hz) {
  auto at = [&](double hz) {
    const auto bin = static_cast<std::ptrdiff_t>(std::lround(std::max(0.0, hz) / bin_hz));
    return amplitudes.begin() + std::min(bin, static_cast<std::ptrdiff_t>(amplitudes.size()) - 2);
  };
  Lines lines{};
  for (int k = 1; k <= kLines; ++k) {
    const double hz = k * base_hz;
    const double line = *std::max_element(at(hz - kStraysHz), at(hz + kStraysHz) + 1);
    const double beside = std::max(*std::max_element(at(hz - kAroundToHz), at(hz - kAroundFromHz) + 1),
                                   *std::max_element(at(hz + kAroundFromHz), at(hz + kAroundToHz) + 1));
    if (line > kLeastPeak && line > kStandsOut * beside) lines[static_cast<std::size_t>(k - 1)] = line;
  }
  return lines;
}

// Lines that stand out of each of the quietest blocks.
std::optional<MainsHum> judged(std::vector<Look>& looks) {
  if (looks.size() < kLeastBlocks) return std::nullopt;
  std::sort(looks.begin(), looks.end(), [](const Look& a, const Look& b) { return a.energy < b.energy; });
  const std::size_t quiet = std::max(kLeastBlocks, looks.size() / kQuietShare);
  MainsHum hum;
  for (std::size_t comb = 0; comb < kBasesHz.size(); ++comb) {
    MainsHum here{kBasesHz[comb], 0, 0};
    int count = 0;
    for (std::size_t k = 0; k < kLines; ++k) {
      double lowest = looks[0].combs[comb][k];
      for (std::size_t i = 1; i < quiet; ++i) lowest = std::min(lowest, looks[i].combs[comb][k]);
      if (lowest == 0) continue;
      ++count;
      if (lowest > here.peak) here = {kBasesHz[comb], static_cast<double>(k + 1) * kBasesHz[comb], lowest};
    }
    if (count >= kNeeded && here.peak > hum.peak) hum = here;
  }
  return hum.peak > 0 ? std::optional(hum) : std::nullopt;
}

}  // namespace hum
}  // namespace

std::vector<std::optional<double>> band_ends_hz(AudioSource& source, const Audio* held) {
  const double rate = source.sample_rate_hz();
  const auto channels = static_cast<std::size_t>(source.channel_count());
  std::vector<std::optional<double>> ends(channels);
  const auto length = static_cast<std::size_t>(band::kBlockS * rate);
  if (source.frames() < static_cast<std::int64_t>(length) || rate < 4 * band::kLowestHz) return ends;
  const auto window = kaiser_window(length, band::kBeta);
  RealTransform transform(fast_transform_length(length));
  std::vector<double> here(transform.length() / 2 + 1);
  std::vector<std::vector<double>> power(channels, std::vector<double>(here.size(), 0.0));
  for_spread_blocks(source, held, static_cast<std::int64_t>(length), band::kBlocks,
                    [&](std::size_t c, auto x) {
                      const std::span<double> input = transform.input();
                      for (std::size_t n = 0; n < length; ++n) input[n] = window[n] * x[n];
                      std::fill(input.begin() + static_cast<std::ptrdiff_t>(length), input.end(), 0.0);
                      transform.execute_squares(1, here);
                      for (std::size_t b = 0; b < here.size(); ++b) power[c][b] += here[b];
                    });
  for (std::size_t c = 0; c < channels; ++c) ends[c] = band::end_of(band::densities(power[c], rate), rate);
  return ends;
}

std::vector<std::optional<MainsHum>> mains_hum(AudioSource& source, const Audio* held) {
  constexpr std::size_t kLength = 8192;  // zero-padded: bins of a quarter of a Hz
  const double rate = source.sample_rate_hz();
  const auto channels = static_cast<std::size_t>(source.channel_count());
  const auto length = static_cast<std::int64_t>(hum::kBlockS * rate);
  std::vector<std::optional<MainsHum>> result(channels);
  if (spread_blocks(source, length, hum::kBlocks) < static_cast<std::int64_t>(hum::kLeastBlocks))
    return result;
  const Decimator low_rate(std::max<std::size_t>(1, static_cast<std::size_t>(rate / hum::kLowRateHz)),
                           hum::kCutoff);
  const double bin_hz = rate / static_cast<double>(low_rate.step() * kLength);
  RealTransform transform(kLength);
  const double highest_hz = hum::kLines * hum::kBasesHz.back() + hum::kAroundToHz;
  const std::size_t looked_at =
      std::min(transform.bins().size(), static_cast<std::size_t>(highest_hz / bin_hz) + 3);
  std::vector<std::vector<hum::Look>> looks(channels);
  std::vector<double> window, amplitudes;
  for_spread_blocks(source, held, length, hum::kBlocks, [&](std::size_t c, auto x) {
    const auto low = low_rate(x);
    if (window.size() != low.size()) window = kaiser_window(low.size(), hum::kBeta);
    double sum = 0;
    hum::Look look;
    const std::span<double> input = transform.input();
    std::fill(input.begin() + static_cast<std::ptrdiff_t>(low.size()), input.end(), 0.0);
    for (std::size_t n = 0; n < low.size(); ++n) {
      input[n] = low[n] * window[n];
      look.energy += low[n] * low[n];
      sum += window[n] / 2;
    }
    transform.execute();
    amplitudes.clear();
    for (const auto& bin : transform.bins().first(looked_at)) amplitudes.push_back(std::abs(bin) / sum);
    for (std::size_t i = 0; i < hum::kBasesHz.size(); ++i)
      look.combs[i] = hum::lines_of(amplitudes, bin_hz, hum::kBasesHz[i]);
    looks[c].push_back(look);
  });
  for (std::size_t c = 0; c < channels; ++c) result[c] = hum::judged(looks[c]);
  return result;
}

}  // namespace wavicon::intake_detail
