#include "band_end.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kBlockS = 0.1;
constexpr double kBeta = 14;  // skirts 100 dB down and falling: a tone does not fill the place above the band
constexpr std::size_t kBlocks = 64;  // spread over the capture
constexpr double kBandsPerOctave = 12;
constexpr double kCliffDb = 30;
constexpr double kHighestOfHalfRate = 0.85;
constexpr double kLowestHz = 1000;
constexpr double kFilledDb =
    40;  // the octave below the end has to be filled to within this of its highest band
constexpr double kNothingDb = -200;

// Mean density in bands of a twelfth of an octave from kLowestHz to half the rate, in dB.
std::vector<double> band_densities(std::span<const double> samples, double rate) {
  const auto length = static_cast<std::size_t>(kBlockS * rate);
  const auto window = kaiser_window(length, kBeta);
  RealTransform transform(fast_transform_length(length));
  std::vector<double> power(transform.length() / 2 + 1, 0.0);
  const std::size_t count = std::min(kBlocks, samples.size() / length);
  for (std::size_t block = 0; block < count; ++block) {
    const std::size_t start = count == 1 ? 0 : block * (samples.size() - length) / (count - 1);
    std::fill(transform.input().begin(), transform.input().end(), 0.0);
    for (std::size_t n = 0; n < length; ++n) transform.input()[n] = window[n] * samples[start + n];
    transform.execute();
    for (std::size_t b = 0; b < power.size(); ++b) power[b] += std::norm(transform.bins()[b]);
  }
  std::vector<double> densities;
  const double step = std::exp2(1 / kBandsPerOctave);
  for (double low = kLowestHz; low * step <= rate / 2; low *= step) {
    const double bin = rate / static_cast<double>(transform.length());
    const auto first = static_cast<std::size_t>(low / bin),
               end = std::min(power.size(), static_cast<std::size_t>(low * step / bin) + 1);
    double sum = 0;
    for (std::size_t b = first; b < end; ++b) sum += power[b];
    densities.push_back(
        std::max(kNothingDb, db_from_power_ratio(sum / static_cast<double>(end - first) + 1e-300)));
  }
  return densities;
}

}  // namespace

std::optional<double> band_end_hz(std::span<const double> samples, double sample_rate_hz) {
  if (static_cast<double>(samples.size()) < kBlockS * sample_rate_hz || sample_rate_hz < 4 * kLowestHz)
    return std::nullopt;
  const auto bands = band_densities(samples, sample_rate_hz);
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
    return filled && hz < kHighestOfHalfRate * sample_rate_hz / 2 ? std::optional(hz) : std::nullopt;
  }
  return std::nullopt;
}

}  // namespace wavicon::intake_detail
