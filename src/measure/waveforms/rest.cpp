// SPDX-License-Identifier: MIT
#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>

#include "measure/waveforms/parts.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon {
namespace measure_detail {
namespace {

constexpr double kBeta = 20;              // of the Kaiser window: side lobes at -155 dB
constexpr double kLobe = 7;               // bins beside a line
constexpr double kForeignOver = 10;       // 20 dB, as amplitude over the middle value of its neighbours
constexpr std::size_t kNeighbours = 200;  // bins on each side that a line has to stand out of
constexpr double kLeastForeign = 3e-6;    // -110 dBFS: a softer line is left alone
constexpr double kRmsOverMiddle = 1.2;    // of amplitudes of noise: √(1/ln 2)
constexpr double kParabola = 0.05;        // bins by which it may be off
constexpr double kPlaceOfLine = 2.5;      // bins, two deviations, over its share of noise
constexpr double kImageOver = 0.1;        // of the strongest line
constexpr int kHighestOrder = 1000;
constexpr double kOnOrder = 0.2;  // bins
constexpr int kMostImages = 3;
constexpr double kImagesUpTo = 0.46;                    // of the rate
constexpr double kImageBins = 0.5, kImageShare = 3e-5;  // by which an image may lie off

constexpr std::array kUsualRates = {8000.0,  11025.0, 16000.0, 22050.0, 24000.0,  32000.0,
                                    44100.0, 48000.0, 88200.0, 96000.0, 176400.0, 192000.0};

constexpr int kPasses = 4;
constexpr double kSurely = 5;                           // over the root of the number of samples
constexpr double kLeastRepeating = 0.05;                // of the power
constexpr double kStepsFrom = 0.7, kStepsTo = 1.5;      // around the step that the share suggests
constexpr double kBesideFrom = 1.08, kBesideTo = 1.35;  // of a step, what lies beside it
constexpr double kOnSteps = 0.1, kOverBeside = 2;
constexpr int kStepPlaces = 400;

// An image of the tone at k·r ± f: the usual rate r, other than the capture's, of whose images up to the
// third more are there than are missing; the line is one of them. None when two rates do as well.
void find_image(ToneWaveform& out, double hz, double rate, double bin, const std::vector<double>& level,
                double least) {
  const auto there = [&](double at) {
    const double off = std::max(kImageBins, kImageShare * at / bin), place = at / bin;
    for (auto k = static_cast<std::size_t>(std::max(0.0, std::floor(place - off)));
         static_cast<double>(k) <= std::ceil(place + off) && k < level.size(); ++k)
      if (level[k] > least) return true;
    return false;
  };
  int best = 0;
  bool alone = false;
  for (const double r : kUsualRates) {
    if (r < hz || std::abs(r / rate - 1) < 1e-3) continue;
    int found = 0, missed = 0, order = 0;
    for (int k = 1; k <= kMostImages; ++k)
      for (const int sign : {-1, 1}) {
        const double at = k * r + sign * hz;
        if (at > kImagesUpTo * rate) continue;
        (there(at) ? found : missed) += 1;
        if (std::abs(at - *out.foreign_hz) < std::max(kImageBins * bin, kImageShare * at)) order = sign * k;
      }
    const int score = found - missed;
    if (order == 0 || score <= 0 || score < best) continue;
    alone = score > best;
    best = score;
    out.image_of_hz = r;
    out.image_order = order;
  }
  if (!alone) out.image_of_hz.reset();
}

// Of orders up to the thousandth, folded ones among them.
bool is_an_order(double at_hz, double hz, double rate, double off_hz) {
  for (int order = 1; order <= kHighestOrder; ++order)
    if (std::abs(std::abs(std::remainder(order * hz, rate)) - at_hz) < off_hz) return true;
  return false;
}

// DC and where the orders of a tone or their folded images lie, up to order 200, lowest first.
std::vector<double> own_lines(double hz, double rate) {
  std::vector<double> lines{0};
  for (int order = 1; order <= 200; ++order) {
    const double turned = std::fmod(order * hz, rate);
    lines.push_back(turned > rate / 2 ? rate - turned : turned);
    if (order > 20 && order * hz > 4 * rate) break;
  }
  std::sort(lines.begin(), lines.end());
  return lines;
}

}  // namespace

void find_foreign(const std::vector<double>& y, double hz, double rate, ToneWaveform& out) {
  const auto window = kaiser_window(y.size(), kBeta);
  RealTransform transform(y.size());
  double sum = 0;
  for (std::size_t n = 0; n < y.size(); ++n) {
    transform.input()[n] = window[n] * y[n];
    sum += window[n];
  }
  transform.execute();
  const auto bins = transform.bins();
  const double bin = rate / static_cast<double>(y.size());
  std::vector<double> level(bins.size(), 0.0);
  const std::vector<double> own = own_lines(hz, rate);
  for (std::size_t k = 0; k < bins.size(); ++k) {
    const double at = static_cast<double>(k) * bin;
    const auto above = std::lower_bound(own.begin(), own.end(), at);
    double nearest = at;
    if (above != own.end()) nearest = std::min(nearest, *above - at);
    if (above != own.begin()) nearest = std::min(nearest, at - above[-1]);
    if (nearest > kLobe * bin) level[k] = 2 * std::abs(bins[k]) / sum;
  }
  const auto top = static_cast<std::size_t>(std::max_element(level.begin(), level.end()) - level.begin());
  std::vector<double> around;
  for (std::size_t k = top > kNeighbours ? top - kNeighbours : 0;
       k < std::min(level.size(), top + kNeighbours); ++k)
    if (level[k] > 0 &&
        (k + static_cast<std::size_t>(kLobe) < top || k > top + static_cast<std::size_t>(kLobe)))
      around.push_back(level[k]);
  if (around.empty() || level[top] < kLeastForeign) return;
  std::nth_element(around.begin(), around.begin() + static_cast<std::ptrdiff_t>(around.size() / 2),
                   around.end());
  if (level[top] < kForeignOver * around[around.size() / 2]) return;
  // A line's lobe is close to a parabola in decibels.
  const auto db = [&](std::size_t k) { return db_from_ratio(2 * std::abs(bins[k]) / sum + 1e-30); };
  double shift = 0, crest = db(top);
  if (top > 0 && top + 1 < bins.size()) {
    const double p = db(top - 1), q = db(top), r = db(top + 1), bend = p - 2 * q + r;
    shift = bend < 0 ? std::clamp(0.5 * (p - r) / bend, -0.5, 0.5) : 0;
    crest = q - 0.25 * (p - r) * shift;
  }
  const double place_hz = (static_cast<double>(top) + shift) * bin;
  // Steps make orders in the hundreds, which fold: where the rest repeats with the tone, they are its own.
  if (out.repeating_share && is_an_order(place_hz, hz, rate, kOnOrder * bin)) return;
  out.foreign_hz = place_hz;
  out.foreign_dbfs = crest;
  const double share = kRmsOverMiddle * around[around.size() / 2] / level[top];
  out.foreign_uncertainty_db = 2 * kDbOfAmplitudeShare * share / std::numbers::sqrt2;
  out.foreign_uncertainty_hz = bin * std::hypot(kParabola, kPlaceOfLine * share);
  find_image(out, hz, rate, bin, level,
             std::max(kForeignOver * around[around.size() / 2], kImageOver * level[top]));
}

namespace {

// |Σ e^(2πj·v/step)| / count: 1 where all values lie equally far from a step, and near 0 where they lie
// anywhere. A step below what tells two values apart says nothing: 0.
double on_steps(std::span<const double> values, double step) {
  constexpr std::size_t kRow = 256, kLanes = 8;
  constexpr double kMostSteps = 1e15;
  std::array<double, kRow> cycles, turned;
  std::array<Phase, kRow> phases;
  std::array<double, kLanes> re{}, im{};
  const auto add = [&](std::array<double, kLanes>& lanes, std::size_t count) {
    sines(std::span(phases).first(count), turned);
    std::fill(turned.begin() + static_cast<std::ptrdiff_t>(count), turned.end(), 0.0);
    for (std::size_t n = 0; n < count; n += kLanes)
      for (std::size_t lane = 0; lane < kLanes; ++lane) lanes[lane] += turned[n + lane];
  };
  for (std::size_t first = 0; first < values.size(); first += kRow) {
    const std::size_t count = std::min(kRow, values.size() - first);
    double most = 0;
    for (std::size_t n = 0; n < count; ++n) {
      cycles[n] = values[first + n] / step;
      most = std::max(most, std::abs(cycles[n]));
    }
    if (!(most < kMostSteps)) return 0;
    phases_from_cycles(std::span(cycles).first(count), phases);
    add(im, count);
    for (std::size_t n = 0; n < count; ++n) phases[n] += kQuarterCycle;
    add(re, count);
  }
  return std::hypot(std::accumulate(re.begin(), re.end(), 0.0), std::accumulate(im.begin(), im.end(), 0.0)) /
         static_cast<double>(values.size());
}

// Of the samples less what a tone without steps has at the same size.
double beyond_the_tone(std::span<const double> values, std::span<const double> smooth, double step) {
  return on_steps(values, step) - on_steps(smooth, step);
}

}  // namespace

void find_repeating(std::span<const double> y, const ToneLevel& tone, double turn, ToneWaveform& out) {
  const std::size_t count = y.size();
  std::vector<double> smooth(count, 0.0), rest(y.begin(), y.end());
  std::vector<std::complex<double>> base(count), power_of_base(count);
  for (std::size_t n = 0; n < count; ++n) base[n] = std::polar(1.0, turn * static_cast<double>(n));
  // A stretch that cuts periods lets each order leak into the others: once more for what they left.
  for (int pass = 0; pass < kPasses; ++pass) {
    std::fill(power_of_base.begin(), power_of_base.end(), 1.0);
    for (std::size_t k = 0; k <= tone.orders.size(); ++k) {
      std::complex<double> sum = 0;
      for (std::size_t n = 0; n < count; ++n) sum += rest[n] * std::conj(power_of_base[n]);
      sum *= (k == 0 ? 1.0 : 2.0) / static_cast<double>(count);
      for (std::size_t n = 0; n < count; ++n) {
        const double v = sum.real() * power_of_base[n].real() - sum.imag() * power_of_base[n].imag();
        rest[n] -= v;
        smooth[n] += v;
        power_of_base[n] *= base[n];
      }
    }
  }
  std::vector<std::pair<double, double>> by_phase;
  double power = 0;
  for (std::size_t n = 0; n < count; ++n) {
    by_phase.emplace_back(std::fmod(turn * static_cast<double>(n), 2 * std::numbers::pi), rest[n]);
    power += rest[n] * rest[n] / static_cast<double>(count);
  }
  if (!(power > 0)) return;
  std::sort(by_phase.begin(), by_phase.end(), [](const auto& p, const auto& q) { return p.first < q.first; });
  double differences = 0;
  for (std::size_t i = 1; i < count; ++i)
    differences += std::pow(by_phase[i].second - by_phase[i - 1].second, 2) / static_cast<double>(count - 1);
  const double share = 1 - differences / (2 * power);
  if (share < std::max(kLeastRepeating, kSurely / std::sqrt(static_cast<double>(count)))) return;
  out.repeating_share = share;
  const double guess = std::sqrt(12 * share * power);
  double best = 0, at = 0;
  for (int i = 0; i <= kStepPlaces; ++i) {
    const double step = guess * std::pow(kStepsTo / kStepsFrom, static_cast<double>(i) / kStepPlaces) *
                        kStepsFrom,
                 here = beyond_the_tone(y, smooth, step);
    if (here > best) {
      best = here;
      at = step;
    }
  }
  if (best < kOnSteps) return;
  double beside = 0;
  for (int i = 0; i <= kStepPlaces / 4; ++i)
    for (const int way : {-1, 1}) {
      const double factor = std::pow(kBesideFrom * std::pow(kBesideTo / kBesideFrom, 4.0 * i / kStepPlaces),
                                     static_cast<double>(way));
      beside = std::max(beside, beyond_the_tone(y, smooth, at * factor));
    }
  if (best > kOverBeside * beside) out.step = at;
}

}  // namespace measure_detail

std::optional<Droop> find_droop(const std::vector<ToneWaveform>& tones) {
  constexpr std::size_t kLeastTones = 3;
  constexpr double kLeastOfRate = 0.2, kLeastDroopDb = 0.1, kGoodDb = 0.03, kFarBetter = 4;
  std::vector<std::pair<double, double>> gains;
  double highest = 0;
  for (const ToneWaveform& t : tones)
    if (t.gain_db) {
      gains.emplace_back(t.frequency_hz, *t.gain_db);
      highest = std::max(highest, t.frequency_hz);
    }
  if (gains.size() < kLeastTones) return std::nullopt;
  const auto sinc_db = [](double x) {
    const double turn = std::numbers::pi * x;
    return turn > 0 ? db_from_ratio(std::sin(turn) / turn) : 0.0;
  };
  const auto left = [&](const auto& model) {
    double mean = 0, squares = 0;
    for (const auto& [hz, gain] : gains) mean += (gain - model(hz)) / static_cast<double>(gains.size());
    for (const auto& [hz, gain] : gains) squares += std::pow(gain - model(hz) - mean, 2);
    return std::sqrt(squares / static_cast<double>(gains.size() - 1));
  };
  std::optional<Droop> best;
  double next = 1e9;
  for (const double rate : measure_detail::kUsualRates) {
    if (highest < kLeastOfRate * rate || highest > 0.5 * rate) continue;
    const Droop here{rate, sinc_db(highest / rate), left([&](double hz) { return sinc_db(hz / rate); })};
    if (best && here.error_db >= best->error_db) {
      next = std::min(next, here.error_db);
      continue;
    }
    if (best) next = best->error_db;
    best = here;
  }
  if (!best || best->error_db > kGoodDb || best->most_db > -kLeastDroopDb ||
      left([](double) { return 0.0; }) < kFarBetter * best->error_db || next < kFarBetter * best->error_db)
    return std::nullopt;
  return best;
}

}  // namespace wavicon
