// SPDX-License-Identifier: MIT
#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/cross_spectra.hpp"
#include "measure/response/features.hpp"
#include "measure/response/impulse.hpp"
#include "measure/response/methods.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/jackknife.hpp"
#include "wavicon/audio/weighting.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kBeta = 14;  // programme lies 80 dB lower at 16 kHz than at 200 Hz: sidelobes must too
constexpr double kWindowS = 0.34;
constexpr double kLongWindowS = 1.36;  // low down, where slopes are steep over a few Hz
constexpr double kLongBelowHz = 300;
constexpr double kLeastLongWindows = 8;  // in the stretch, side by side
constexpr double kTailS = 0.5;           // of the response over time
constexpr double kHighestHz = 20000;
constexpr double kLeastCoherence = 0.5;  // below it a bin says more of noise than of the path
constexpr std::size_t kEnergyFrames = 4096;
constexpr double kMethodDb = 0.01, kPeriodicMethodDb = 0.002;  // lobes, the reading between lines
constexpr double kLeastPower = 1e-10;                          // of the strongest bin
constexpr double kWholeFrame = 0.02;                           // frames: as near, the delay is whole

// What both share around one place of the axis.
struct Place {
  double xx = 0, yy = 0;
  std::complex<double> ratio;
  double coherence = 0;
  double values = 1;  // that were averaged and do not depend on each other
};

// Of values that do not depend on each other: the seconds and the width of a bin that they come from.
struct Chance {
  explicit Chance(const CrossSpectra& spectra)
      : seconds(spectra.spread().seconds()), noise_hz(spectra.plan().noise_bins * spectra.bin_hz()) {}
  double seconds, noise_hz;
};

class Averages {
 public:
  explicit Averages(const ResponseTask& task)
      : task_(task),
        periodic_(task.options.period_frames > 0),
        spectra_(periodic_ ? CrossSpectra(task.rate, CrossSpectra::Periods{static_cast<std::size_t>(
                                                         task.options.period_frames)})
                           : CrossSpectra(task.rate, task.range.frames(), kWindowS, kBeta)) {
    if (!periodic_ && static_cast<double>(task.range.frames()) > kLeastLongWindows * kLongWindowS * task.rate)
      long_.emplace(task.rate, task.range.frames(), kLongWindowS, kBeta);
  }

  void run(int of_a, int of_b, ChannelResponse& channel) {
    gather(of_a, of_b);
    if (spectra_.windows() == 0 || energy_a_ == 0 || energy_b_ == 0) return;
    channel.broadband_db = db_from_power_ratio(energy_b_ / energy_a_);
    if (const auto sure =
            jackknife(energies_, [](const auto& e) { return db_from_power_ratio(e[1] / e[0]); }))
      channel.uncertainty.broadband_db = channel.uncertainty.loudness_lu = *sure;
    channel.windows = spectra_.windows();
    channel.bin_hz = spectra_.bin_hz();
    strongest_ = strongest_of(spectra_);
    weigh(channel);
    // Of the common delay, what was left when B was read at whole frames.
    double late = rest_;
    if (periodic_) {
      const auto impulse = impulse_of_lines();
      if (!impulse) return;
      channel.impulse = impulse->taps;
      channel.impulse_zero = impulse->zero;
      channel.impulse_rest = impulse->rest;
      late = static_cast<double>(impulse->zero) - static_cast<double>(impulse->before) + impulse->rest;
    }
    channel.delay_samples = task_.alignment.delay_frames + (periodic_ ? late - rest_ : 0);
    read_places(late, channel);
  }

 private:
  void gather(int of_a, int of_b) {
    const auto length = static_cast<std::int64_t>(spectra_.length()),
               block = periodic_ ? length
                                 : 8 * static_cast<std::int64_t>(long_ ? long_->length() : spectra_.length());
    // The unit has to have settled into what repeats.
    for (std::int64_t at = task_.range.first + (periodic_ ? length : 0); at < task_.range.end; at += block) {
      const std::int64_t count = std::min(block, task_.range.end - at);
      if (periodic_ && count < length) break;
      const auto x = read_channel(task_.a, of_a, at, count), y = read_b(task_, of_b, at, count, rest_);
      for (std::size_t first = 0; first < x.size(); first += kEnergyFrames) {
        PartSums<2> here{};
        for (std::size_t n = first; n < std::min(x.size(), first + kEnergyFrames); ++n) {
          here[0] += x[n] * x[n];
          here[1] += y[n] * y[n];
        }
        energy_a_ += here[0];
        energy_b_ += here[1];
        energies_.push_back(here);
      }
      spectra_.add(x, y);
      if (long_) long_->add(x, y);
    }
    if (!std::isfinite(energy_a_) || !std::isfinite(energy_b_))
      throw Error(ErrorCode::bad_input, "A or B holds NaN or infinity; 'wavicon health' names the place");
  }

  [[nodiscard]] static double strongest_of(const CrossSpectra& spectra) {
    return *std::max_element(spectra.xx().begin(), spectra.xx().end());
  }

  // Loudness of B over A.
  void weigh(ChannelResponse& channel) const {
    double louder = 0, loud = 0;
    for (std::size_t k = 0; k < spectra_.xx().size(); ++k) {
      const double weight = k_weight(static_cast<double>(k) * spectra_.bin_hz());
      loud += weight * spectra_.xx()[k];
      louder += weight * spectra_.yy()[k];
    }
    if (loud > 0 && louder > 0) channel.loudness_lu = db_from_power_ratio(louder / loud);
  }

  [[nodiscard]] std::optional<CutImpulse> impulse_of_lines() const {
    std::vector<std::complex<double>> ratio(spectra_.xx().size());
    for (std::size_t k = 0; k < ratio.size(); ++k)
      if (spectra_.xx()[k] > kLeastPower * strongest_) ratio[k] = spectra_.xy()[k] / spectra_.xx()[k];
    RealTransform transform(spectra_.length());
    return cut_impulse(transform.invert(ratio), static_cast<std::size_t>(kTailS * task_.rate), rest_);
  }

  void read_places(double late, ChannelResponse& channel) const {
    const double bin = (long_ ? *long_ : spectra_).bin_hz(),
                 strongest_long = long_ ? strongest_of(*long_) : 0;
    const Chance chance(spectra_), long_chance = long_ ? Chance(*long_) : chance;
    std::size_t all = 0;
    for (const double hz :
         response_axis(std::max(kLowestHz, 3 * bin), std::min(kHighestHz, kHighest * task_.rate))) {
      ++all;
      const bool low = long_ && hz < kLongBelowHz;
      const Place place = periodic_
                              ? lines_around(hz, late)
                              : bins_around(low ? *long_ : spectra_, low ? long_chance : chance, hz, late);
      if (place.xx < kLeastPower * (low ? strongest_long : strongest_) || place.yy <= 0 ||
          place.coherence < kLeastCoherence)
        continue;
      channel.points.push_back({hz, place.ratio, place.coherence, uncertainty_db(place), 0});
    }
    channel.left_out_share =
        all > 0 ? 1 - static_cast<double>(channel.points.size()) / static_cast<double>(all) : 0;
    // Slope of the phase between neighbours.
    for (std::size_t i = 1; i + 1 < channel.points.size(); ++i) {
      const ResponsePoint &before = channel.points[i - 1], &after = channel.points[i + 1];
      channel.points[i].group_delay_s =
          -std::arg(after.ratio * std::conj(before.ratio)) / (2 * std::numbers::pi * (after.hz - before.hz));
    }
  }

  // Of the magnitude of H1 (Bendat and Piersol, to verify).
  [[nodiscard]] double uncertainty_db(const Place& place) const {
    const double share = (1 - place.coherence) / (2 * place.coherence * place.values);
    return std::hypot(periodic_ ? kPeriodicMethodDb : kMethodDb, 2 * kDbOfAmplitudeShare * std::sqrt(share));
  }

  // What is shared in one bin, the rest of the delay taken off.
  [[nodiscard]] static std::complex<double> turned(const CrossSpectra& spectra, std::size_t k, double late) {
    return spectra.xy()[k] * std::polar(1.0, 2 * std::numbers::pi * static_cast<double>(k) /
                                                 static_cast<double>(spectra.length()) * late);
  }

  [[nodiscard]] static Place bins_around(const CrossSpectra& spectra, const Chance& of, double hz,
                                         double late) {
    const double bin = spectra.bin_hz(), half = std::exp2(0.5 / kPerOctave),
                 chance = 1.0 / static_cast<double>(spectra.windows());
    auto from = static_cast<std::size_t>(std::ceil(hz / half / bin)),
         to = static_cast<std::size_t>(hz * half / bin);
    if (to < from) from = to = static_cast<std::size_t>(std::lround(hz / bin));
    Place place;
    std::complex<double> xy = 0;
    for (std::size_t k = from; k <= to && k < spectra.xx().size(); ++k) {
      place.xx += spectra.xx()[k];
      place.yy += spectra.yy()[k];
      xy += turned(spectra, k, late);
    }
    if (place.xx <= 0 || place.yy <= 0) return place;
    place.ratio = xy / place.xx;
    place.values =
        std::max(1.0, of.seconds * std::max(static_cast<double>(to - from + 1) * bin, of.noise_hz));
    place.coherence =
        std::clamp((std::norm(xy) / (place.xx * place.yy) - chance) / (1 - chance + 1e-12), 0.0, 1.0);
    return place;
  }

  // A straight line through the ratios of the lines around, weighted by A's power, read at the place itself:
  // low down there are few of them, and none lies on it. What differs from period to period is not coherent.
  [[nodiscard]] Place lines_around(double hz, double late) const {
    const double bin = spectra_.bin_hz(), half = std::exp2(0.5 / kPerOctave);
    const auto from = static_cast<std::size_t>(std::min(std::ceil(hz / half / bin), std::ceil(hz / bin) - 1)),
               to = static_cast<std::size_t>(std::max(hz * half / bin, std::floor(hz / bin) + 1));
    Place place;
    double first = 0, second = 0, unlike = 0, squares = 0;
    std::complex<double> sum = 0, tilted = 0;
    for (std::size_t k = from; k <= to && k < spectra_.xx().size(); ++k) {
      const double xx = spectra_.xx()[k], away = static_cast<double>(k) * bin - hz;
      if (xx <= kLeastPower * strongest_) continue;
      const std::complex<double> xy = turned(spectra_, k, late);
      place.xx += xx;
      squares += xx * xx;
      place.yy += spectra_.yy()[k];
      first += xx * away;
      second += xx * away * away;
      sum += xy;
      tilted += away * xy;
      unlike += std::max(0.0, spectra_.yy()[k] - std::norm(xy) / xx);
    }
    const double determinant = place.xx * second - first * first;
    if (!(determinant > 0)) return {};
    place.ratio = (second * sum - first * tilted) / determinant;
    const auto periods = static_cast<double>(spectra_.windows());
    place.values = periods * place.xx * place.xx / squares;
    place.coherence = periods > 1 && place.yy > 0
                          ? std::clamp(1 - periods / (periods - 1) * unlike / place.yy, 0.0, 1.0)
                          : 1;
    return place;
  }

  const ResponseTask& task_;
  bool periodic_;
  CrossSpectra spectra_;
  std::optional<CrossSpectra> long_;
  std::vector<PartSums<2>> energies_;  // of A and B, in the blocks read
  double rest_ = 0, energy_a_ = 0, energy_b_ = 0, strongest_ = 0;
};

}  // namespace

std::vector<double> response_axis(double from_hz, double to_hz) {
  std::vector<double> hz;
  for (int i = static_cast<int>(std::ceil(kPerOctave * std::log2(from_hz / 1000)));
       1000 * std::exp2(i / kPerOctave) <= to_hz; ++i)
    hz.push_back(1000 * std::exp2(i / kPerOctave));
  return hz;
}

std::vector<double> read_b(const ResponseTask& task, int channel, std::int64_t first, std::int64_t frames,
                           double& rest) {
  const Alignment& alignment = task.alignment;
  if (std::abs(alignment.frames_per_frame - 1) * static_cast<double>(frames) > 1e-3) {
    std::vector<double> y(static_cast<std::size_t>(frames));
    read_aligned(task.b, channel, alignment, first, FractionalReader(), y);
    rest = 0;
    return y;
  }
  const double place = alignment.delay_frames + static_cast<double>(first) * (alignment.frames_per_frame - 1);
  const auto whole = std::llround(place);
  rest = place - static_cast<double>(whole);
  if (std::abs(rest) < kWholeFrame) rest = 0;
  return read_channel(task.b, channel, first + whole, frames);
}

void average_spectra(const ResponseTask& task, int of_a, int of_b, ChannelResponse& channel) {
  Averages(task).run(of_a, of_b, channel);
}

}  // namespace wavicon::measure_detail
