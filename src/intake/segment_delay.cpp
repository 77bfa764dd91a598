// SPDX-License-Identifier: MIT
#include "segment_delay.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "audio/wide.hpp"
#include "samples.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kLowestHz = 20;
constexpr double kHighestOfRate = 0.46;  // beyond, filters of converters turn the phase
constexpr std::size_t kLeastBins = 8;    // of a band
constexpr double kLeastNoise = 1e-5;     // of a band's power: nothing is known better than to -50 dB
constexpr double kLeastCoherent = 0.1;   // of a band's power: less leads astray where it is far off
constexpr double kByChance = 3;          // over the number of bins: a coherence that chance gives
constexpr int kRounds = 6;               // of weights
constexpr int kNewtonSteps = 16;         // it converges in four to six; the rest is a safeguard
constexpr double kStill = 1e-10;         // frames
constexpr double kSettled = 1e-6;        // frames: weights change no more

using Bins = std::vector<std::complex<double>>;

// Bins are added up side by side, in lanes of one order whatever the registers hold.
constexpr std::size_t kLanes = 8;

struct Lanes {
  double re[kLanes] = {}, im[kLanes] = {};
};

struct LaneMoments {
  double sum[kLanes] = {}, slope[kLanes] = {}, curvature[kLanes] = {};
};

// Groups of bins from `first` on: lane j has every eighth bin from the j-th on, and its own phase, which is
// turned on by `step` for each group. Products are added up with their signs in them, as in transform.cpp: no
// compiler makes one rounding of two.
WAVICON_WIDE void add_groups(const double* __restrict cross, std::size_t groups, double first, double turn,
                             Lanes& phase, double step_re, double step_im, LaneMoments& moments) {
  Lanes turned = phase;
  LaneMoments m = moments;
  for (std::size_t g = 0; g < groups; ++g) {
    const double* at = cross + 2 * kLanes * g;
    const double group_first = first + static_cast<double>(kLanes * g);
    for (std::size_t j = 0; j < kLanes; ++j) {
      const double w = turn * (group_first + static_cast<double>(j));
      const double c_re = at[2 * j], c_im = at[2 * j + 1], p_re = turned.re[j], p_im = turned.im[j];
      const double re = c_re * p_re + -c_im * p_im, im = c_re * p_im + c_im * p_re;
      m.sum[j] += re;
      m.slope[j] -= w * im;
      m.curvature[j] -= w * w * re;
      turned.re[j] = p_re * step_re + -p_im * step_im;
      turned.im[j] = p_re * step_im + p_im * step_re;
    }
  }
  phase = turned;
  moments = m;
}

double power_of(const Bins& bins, std::size_t first, std::size_t end) {
  double sum = 0;
  for (std::size_t k = first; k < end; ++k) sum += std::norm(bins[k]);
  return sum;
}

// Newton's method towards the crest at which `sum` has the given sign. Half a sample off, steps of one sample
// would jump over the crest and back for ever.
template <typename At>
double climbed(double delay, double sign, At&& at) {
  double limit = 0.5, last = 0;
  for (int i = 0; i < kNewtonSteps; ++i) {
    const auto m = at(delay);
    if (sign == 0) sign = m.sum < 0 ? -1 : 1;
    if (sign * m.curvature >= 0) break;
    double move = -m.slope / m.curvature;
    if (move * last < 0) limit /= 2;
    move = std::clamp(move, -limit, limit);
    last = move;
    delay += move;
    if (std::abs(move) < kStill) break;
  }
  return delay;
}

}  // namespace

SegmentDelays::SegmentDelays(double sample_rate_hz, std::vector<double> window, double least_of_densest)
    : window_(std::move(window)),
      least_of_densest_(least_of_densest),
      transform_(fast_transform_length(window_.size())) {
  const auto length = static_cast<double>(transform_.length()), own = static_cast<double>(window_.size());
  turn_ = 2 * std::numbers::pi / length;
  density_ = own / length;
  double squares = 0, fourths = 0;
  for (const double h : window_) {
    squares += h * h;
    fourths += h * h * h * h;
  }
  spread_ = squares > 0 ? own * fourths / (squares * squares) : 1;
  const double bin_hz = sample_rate_hz / length;
  const auto last = static_cast<std::size_t>(kHighestOfRate * length);
  auto at = static_cast<std::size_t>(std::max(1.0, std::ceil(kLowestHz / bin_hz)));
  while (at < last) {
    const auto third = static_cast<std::size_t>(std::ceil(static_cast<double>(at) * std::cbrt(2.0)));
    const std::size_t end = std::min(last, std::max(third, at + kLeastBins));
    bands_.push_back({.first = at, .end = end});
    at = end;
  }
}

SegmentDelays::Moments SegmentDelays::moments_of(const Bins& cross, std::size_t first, std::size_t end,
                                                 double turn, double delay) {
  if (end <= first) return {};
  const std::complex<double> step = std::polar(1.0, turn * delay);
  std::complex<double> phase = std::polar(1.0, turn * delay * static_cast<double>(first)), group_step = step;
  Lanes phases;
  for (std::size_t j = 0; j < kLanes; ++j, phase *= step) {
    phases.re[j] = phase.real();
    phases.im[j] = phase.imag();
  }
  for (std::size_t n = 1; n < kLanes; n *= 2) group_step *= group_step;
  LaneMoments m;
  const std::size_t groups = (end - first) / kLanes, rest = (end - first) % kLanes;
  add_groups(reinterpret_cast<const double*>(cross.data() + first), groups, static_cast<double>(first), turn,
             phases, group_step.real(), group_step.imag(), m);
  if (rest > 0) {
    std::array<std::complex<double>, kLanes> last{};
    std::copy_n(cross.begin() + static_cast<std::ptrdiff_t>(end - rest), rest, last.begin());
    add_groups(reinterpret_cast<const double*>(last.data()), 1, static_cast<double>(end - rest), turn, phases,
               group_step.real(), group_step.imag(), m);
  }
  const auto added = [](const double* lanes) {
    return ((lanes[0] + lanes[4]) + (lanes[2] + lanes[6])) + ((lanes[1] + lanes[5]) + (lanes[3] + lanes[7]));
  };
  return {added(m.sum), added(m.slope), added(m.curvature)};
}

const SegmentDelays::Moments& SegmentDelays::moments_at(Band& band, const Bins& cross, double delay) const {
  if (band.looked_at != delay) {
    band.moments = moments_of(cross, band.first, band.end, turn_, delay);
    band.looked_at = delay;
  }
  return band.moments;
}

SegmentDelays::Spectrum SegmentDelays::spectrum_of(std::span<const double> x) {
  Spectrum spectrum{transform_.bins_of(x), {}};
  spectrum.band_powers.reserve(bands_.size());
  for (const Band& band : bands_)
    spectrum.band_powers.push_back(power_of(spectrum.bins, band.first, band.end));
  return spectrum;
}

void SegmentDelays::weigh(const Bins& cross, double delay) {
  std::vector<double> common(bands_.size());
  double all = 0, densest = 0;
  for (std::size_t i = 0; i < bands_.size(); ++i) {
    common[i] = moments_at(bands_[i], cross, delay).sum;
    all += common[i];
    densest = std::max(densest, bands_[i].other / static_cast<double>(bands_[i].end - bands_[i].first));
  }
  for (std::size_t i = 0; i < bands_.size(); ++i) {
    Band& band = bands_[i];
    const double own = band.own, other = band.other,
                 n = std::max(2.0, static_cast<double>(band.end - band.first) * density_);
    band.weight = 0;
    if (!(own > 0 && other > 0) || common[i] * all <= 0 ||
        common[i] * common[i] <= std::max(kByChance / n, kLeastCoherent) * own * other)
      continue;
    const double noise = std::max({(other - common[i] * common[i] / own) / (n - 1), kLeastNoise * other / n,
                                   least_of_densest_ * densest});
    band.weight = common[i] / own / noise * density_;
  }
}

std::optional<SegmentDelay> SegmentDelays::operator()(const Spectrum& x, std::span<const double> y) {
  Bins cross = transform_.bins_of(y);
  for (std::size_t i = 0; i < bands_.size(); ++i) {
    bands_[i].own = x.band_powers[i];
    bands_[i].other = power_of(cross, bands_[i].first, bands_[i].end);
    bands_[i].looked_at.reset();
  }
  times_conjugates(cross, x.bins);
  const auto all = [&](double delay) { return moments_of(cross, 1, cross.size(), turn_, delay); };
  const auto weighed = [&](double delay) {
    Moments sum;
    for (Band& band : bands_) {
      if (band.weight == 0) continue;
      const Moments& m = moments_at(band, cross, delay);
      sum.sum += band.weight * m.sum;
      sum.slope += band.weight * m.slope;
      sum.curvature += band.weight * m.curvature;
    }
    return sum;
  };
  // From where it stands, by what agrees there: what is loud and turned in phase does not lead away.
  double delay = 0;
  weigh(cross, delay);
  if (std::none_of(bands_.begin(), bands_.end(), [](const Band& band) { return band.weight != 0; }))
    delay = climbed(0, 0, all);
  for (int round = 0; round < kRounds; ++round) {
    weigh(cross, delay);
    // Weights carry the sign of what is common: the crest is a maximum.
    const double before = delay;
    delay = climbed(delay, 1, weighed);
    if (std::abs(delay - before) < kSettled) break;
  }
  const double information = -weighed(delay).curvature;
  if (!(information > 0)) return std::nullopt;
  SegmentDelay found{delay, std::sqrt(spread_ / (2 * information))};
  take_scatter(cross, found);
  return found;
}

// What turns the phase moves each band by another time: the bands then scatter more than their noise
// explains.
void SegmentDelays::take_scatter(const Bins& cross, SegmentDelay& found) {
  double sum = 0, all = 0, count = 0;
  for (Band& band : bands_) {
    if (band.weight == 0) continue;
    const Moments& m = moments_at(band, cross, found.frames);
    const double information = -band.weight * m.curvature, off = band.weight * m.slope;
    if (!(information > 0)) continue;
    sum += off * off / information;
    all += information;
    ++count;
  }
  if (count < 2) return;
  // The variance of a band's delay is spread / (2 information).
  found.scatter = std::max(1.0, sum * 2 / spread_ / (count - 1));
  found.spread_frames = std::sqrt(sum / all);
}

std::vector<double> hann_window(std::size_t length) {
  std::vector<double> window(length);
  for (std::size_t n = 0; n < length; ++n)
    window[n] = 0.5 - 0.5 * std::cos(2 * std::numbers::pi * (static_cast<double>(n) + 0.5) /
                                     static_cast<double>(length));
  return window;
}

std::vector<double> edged_window(std::size_t length, std::size_t edge) {
  std::vector<double> window(length, 1.0);
  edge = std::min(edge, length / 2);
  for (std::size_t n = 0; n < edge; ++n)
    window[n] = window[length - 1 - n] =
        0.5 - 0.5 * std::cos(std::numbers::pi * (static_cast<double>(n) + 0.5) / static_cast<double>(edge));
  return window;
}

}  // namespace wavicon::intake_detail
