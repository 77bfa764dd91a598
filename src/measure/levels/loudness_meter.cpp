// SPDX-License-Identifier: MIT
#include "measure/levels/loudness_meter.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "audio/wide.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"

namespace wavicon::measure_detail {
namespace {

// ITU-R BS.1770-4, tables 1 and 2, at 48 kHz.
constexpr double kListedRateHz = 48000;
constexpr Section kShelf{1.53512485958697, -2.69169618940638, 1.19839281085285, -1.69065929318241,
                         0.73248077421585};
constexpr Section kLowCut{1, -2, 1, -1.99004745483398, 0.99007225036621};

constexpr double kOffset = -0.691;  // of the standard: a tone of 997 Hz reads what it is
constexpr double kAround = 1.41;    // weight of surround channels, as listed
constexpr double kGateLufs = -70, kRelativeGate = 10, kRangeGate = 20;
constexpr std::size_t kBlock = 4, kShortTerm = 30, kApart = 10;  // steps
constexpr double kForgotten = 1e-100;  // what a section remembers of sound long gone: slow to reckon with

// A section in p = (z - 1)/(z + 1), the variable of the bilinear transform: (n2·p² + n1·p + n0)/(…).
struct Analogue {
  double n2, n1, n0, d2, d1, d0;
};

Analogue analogue_of(const Section& s) {
  return {s.b0 - s.b1 + s.b2, 2 * (s.b0 - s.b2), s.b0 + s.b1 + s.b2,
          1 - s.a1 + s.a2,    2 * (1 - s.a2),    1 + s.a1 + s.a2};
}

Section section_of(const Analogue& a) {
  const double d = a.d2 + a.d1 + a.d0;
  return {(a.n2 + a.n1 + a.n0) / d, 2 * (a.n0 - a.n2) / d, (a.n2 - a.n1 + a.n0) / d, 2 * (a.d0 - a.d2) / d,
          (a.d2 - a.d1 + a.d0) / d};
}

// tan(π·hz/rate)
double tangent(double hz, double rate) {
  const Phase half = phase_step(hz, 2 * rate);
  return sine(half) / cosine(half);
}

// The same response at another rate: p is stretched so that the section's own frequency, where p² balances
// its constant, stays where it is.
Section at_rate(const Section& listed, double rate) {
  Analogue a = analogue_of(listed);
  const double own = std::sqrt(a.d0 / a.d2);  // tan(π·f/48000)
  const double hz = kListedRateHz / 3.141592653589793 * arctangent(own);
  const double stretch = own / tangent(hz, rate);
  a.n1 *= stretch;
  a.n2 *= stretch * stretch;
  a.d1 *= stretch;
  a.d2 *= stretch * stretch;
  return section_of(a);
}

// Mono, left and right, or the order of the WAVE format: the fourth of six is for low frequencies alone.
double weight_of(std::size_t channel, std::size_t count) {
  if (count == 4) return channel < 2 ? 1 : kAround;
  if (count == 5) return channel < 3 ? 1 : kAround;
  if (channel < 3) return 1;
  return channel == 4 || channel == 5 ? kAround : 0;
}

double lufs_of(double mean_power) {
  return mean_power > 0 ? kOffset + db_from_power_ratio(mean_power)
                        : -std::numeric_limits<double>::infinity();
}

double power_of(double lufs) { return power_ratio_from_db(lufs - kOffset); }

// Shelves of one or two channels, and behind them their cuts.
template <std::size_t kSide>
struct BothSections;
template <>
struct BothSections<1> {
  using Lanes = double __attribute__((vector_size(16)));
};
template <>
struct BothSections<2> {
  using Lanes = double __attribute__((vector_size(32)));
};

// Both sections side by side, the second one frame behind the first: each value waits for the one before it,
// and the sections do not wait for each other. As y[n] = Σ b·x - a2·y[n - 2] - a1·y[n - 1], so that it waits
// for one product and one difference; what is constant ends at exactly nothing.
template <std::size_t kSide>
WAVICON_WITHIN_WIDE void filter(const KWeighting& k, const double* const* x, std::size_t count,
                                LoudnessChannel* const* channels) {
  using Lanes = typename BothSections<kSide>::Lanes;
  Lanes b0, b1, b2, a1, a2, in1, in2, out1, out2, power{};
  for (std::size_t i = 0; i < kSide; ++i) {
    const LoudnessChannel& c = *channels[i];
    const auto set = [&](std::size_t lane, const Section& s, const double* in, const double* out) {
      b0[lane] = s.b0;
      b1[lane] = s.b1;
      b2[lane] = s.b2;
      a1[lane] = s.a1;
      a2[lane] = s.a2;
      in1[lane] = in[0];
      in2[lane] = in[1];
      out1[lane] = out[0];
      out2[lane] = out[1];
    };
    set(i, k.shelf, c.before, c.shelved);
    set(kSide + i, k.low_cut, c.shelved, c.cut);
    power[kSide + i] = c.power;
  }
  // The first frame of the shelf alone, and in the end the last one of the cut.
  const auto step_alone = [&](std::size_t lane, double in) {
    const double out =
        ((b0[lane] * in + (b1[lane] * in1[lane] + b2[lane] * in2[lane])) - a2[lane] * out2[lane]) -
        a1[lane] * out1[lane];
    in2[lane] = in1[lane];
    in1[lane] = in;
    out2[lane] = out1[lane];
    out1[lane] = out;
    return out;
  };
  for (std::size_t i = 0; i < kSide; ++i) step_alone(i, x[i][0]);
  for (std::size_t n = 1; n < count; ++n) {
    Lanes in;
    if constexpr (kSide == 2)
      in = Lanes{x[0][n], x[1][n], out1[0], out1[1]};
    else
      in = Lanes{x[0][n], out1[0]};
    const Lanes out = ((b0 * in + (b1 * in1 + b2 * in2)) - a2 * out2) - a1 * out1;
    in2 = in1;
    in1 = in;
    out2 = out1;
    out1 = out;
    power += out * out;
  }
  for (std::size_t i = 0; i < kSide; ++i) {
    LoudnessChannel& c = *channels[i];
    const double last = step_alone(kSide + i, out1[i]);
    c.power = power[kSide + i] + last * last;
    c.before[0] = in1[i];
    c.before[1] = in2[i];
    c.shelved[0] = out1[i];
    c.shelved[1] = out2[i];
    c.cut[0] = out1[kSide + i];
    c.cut[1] = out2[kSide + i];
  }
}

WAVICON_WIDE void filter_two(const KWeighting& k, const double* const* x, std::size_t count,
                             LoudnessChannel* const* channels) {
  filter<2>(k, x, count, channels);
}
WAVICON_WIDE void filter_one(const KWeighting& k, const double* const* x, std::size_t count,
                             LoudnessChannel* const* channels) {
  filter<1>(k, x, count, channels);
}

void forget(double& value) {
  if (std::abs(value) < kForgotten) value = 0;
}

}  // namespace

KWeighting::KWeighting(double sample_rate_hz)
    : shelf(at_rate(kShelf, sample_rate_hz)), low_cut(at_rate(kLowCut, sample_rate_hz)) {}

LoudnessMeter::LoudnessMeter(int channel_count, double sample_rate_hz)
    : filter_(sample_rate_hz),
      step_frames_(std::max(1.0, std::round(0.1 * sample_rate_hz))),
      channels_(static_cast<std::size_t>(channel_count)) {
  for (std::size_t c = 0; c < channels_.size(); ++c) channels_[c].weight = weight_of(c, channels_.size());
}

void LoudnessMeter::add(std::span<const double> planar, std::size_t length, std::size_t from,
                        std::size_t count) {
  if (count == 0) return;
  std::size_t c = 0;
  for (; c + 1 < channels_.size(); c += 2) {
    const double* x[] = {planar.data() + c * length + from, planar.data() + (c + 1) * length + from};
    LoudnessChannel* both[] = {&channels_[c], &channels_[c + 1]};
    filter_two(filter_, x, count, both);
  }
  for (; c < channels_.size(); ++c) {
    const double* x[] = {planar.data() + c * length + from};
    LoudnessChannel* one[] = {&channels_[c]};
    filter_one(filter_, x, count, one);
  }
}

void LoudnessMeter::end_step() {
  double sum = 0;
  for (LoudnessChannel& c : channels_) {
    sum += c.weight * c.power;
    c.power = 0;
    for (double* values : {c.shelved, c.cut})
      for (std::size_t i = 0; i < 2; ++i) forget(values[i]);
  }
  steps_.push_back(sum);
}

double LoudnessMeter::mean_power(std::size_t end, std::size_t steps) const {
  double sum = 0;
  for (std::size_t i = end - steps; i < end; ++i) sum += steps_[i];
  return sum / (static_cast<double>(steps) * step_frames_);
}

std::optional<double> LoudnessMeter::of_last(std::size_t steps) const {
  if (steps_.size() < steps) return std::nullopt;
  return lufs_of(mean_power(steps_.size(), steps));
}

std::optional<double> LoudnessMeter::integrated_lufs() const {
  const double absolute = power_of(kGateLufs);
  std::vector<double> loud;
  for (std::size_t end = kBlock; end <= steps_.size(); ++end)
    if (const double power = mean_power(end, kBlock); power >= absolute) loud.push_back(power);
  if (loud.empty()) return std::nullopt;
  const auto mean_above = [&](double gate) {
    double sum = 0, count = 0;
    for (const double power : loud)
      if (power >= gate) {
        sum += power;
        ++count;
      }
    return sum / count;
  };
  return lufs_of(mean_above(mean_above(0) / power_ratio_from_db(kRelativeGate)));
}

std::optional<double> LoudnessMeter::range_lu() const {
  const double absolute = power_of(kGateLufs);
  std::vector<double> loud;
  double sum = 0;
  for (std::size_t end = kShortTerm; end <= steps_.size(); end += kApart)
    if (const double power = mean_power(end, kShortTerm); power >= absolute) {
      loud.push_back(power);
      sum += power;
    }
  if (loud.empty()) return std::nullopt;
  const double gate = sum / static_cast<double>(loud.size()) / power_ratio_from_db(kRangeGate);
  std::erase_if(loud, [&](double power) { return power < gate; });
  std::sort(loud.begin(), loud.end());
  const auto at = [&](double part) {
    return loud[static_cast<std::size_t>(std::lround(static_cast<double>(loud.size() - 1) * part))];
  };
  return lufs_of(at(0.95)) - lufs_of(at(0.1));
}

}  // namespace wavicon::measure_detail
