// SPDX-License-Identifier: MIT
#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/response/between_bins.hpp"
#include "measure/response/features.hpp"
#include "measure/response/impulse.hpp"
#include "measure/response/methods.hpp"
#include "measure/response/place_by_division.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kSweepTailS = 0.5;      // of the response over time
constexpr double kLeadS = 0.05;          // of silence before a sweep
constexpr double kSweepLittle = 1e-6;    // ε over the middle of the band
constexpr double kSpoiledMargin = 1.06;  // of a frequency, beside what is spoiled
constexpr double kCutS = 0.005;
constexpr double kCutMargin = 1.6;      // the edge rings into what lies before it
constexpr int kRounds = 2;              // of taking off what lies beside the sweep
constexpr double kSweepNothing = 1e-7;  // of the highest place: -140 dB
constexpr double kAtTop = 0.999;        // of the highest sample: held there, it was cut
constexpr double kLeastTop = 1e-3;      // -60 dBFS: what is softer was not cut
constexpr std::size_t kClippedRun = 4;  // frames that stand still
constexpr double kJoinS = 0.2;
constexpr double kMostBeforeS = 0.45, kNoiseGuardS = 0.01, kNoiseWindowS = 0.05, kLeastWindowS = 0.01;
constexpr double kOfSecondOrder = 0.9;  // of the time by which its response comes early
constexpr std::size_t kMostNoiseWindows = 8;
constexpr double kWidenBelowHz = 150, kWiden = 1.2;      // a window holds few cycles there
constexpr double kSweepMethodDb = 0.001;                 // ε, the cuts, the reading between bins
constexpr double kOwnShare = 1e-5, kOwnMarginS = 0.005;  // what a channel plays beside another one's sweep
constexpr double kSweepEdge = 0.03;  // of the sweep's ends that are left out, in frequency

class SweepDivision {
 public:
  SweepDivision(const ResponseTask& task, ResponseCache::Impl& cache) : task_(task), cache_(cache) {
    const double from = task.options.sweep_from_hz, to = task.options.sweep_to_hz;
    low_hz_ = from > 0 ? std::min(from, to) : kLowestHz;
    high_hz_ = std::min(to > 0 ? std::max(from, to) : task.rate / 2, kHighest * task.rate);
  }

  void run(int of_a, int of_b, ChannelResponse& channel) {
    const auto lead = static_cast<std::int64_t>(kLeadS * task_.rate),
               tail = static_cast<std::int64_t>(kSweepTailS * task_.rate);
    const std::int64_t first = task_.range.first - lead, frames = task_.range.frames() + lead + tail;
    double rest = 0;
    auto y = read_b(task_, of_b, first, frames, rest);
    if (channel.crosstalk_from) leave_out_own(y, of_a, of_b, first, lead, tail);
    plan(fast_transform_length(static_cast<std::size_t>(frames + tail)));
    const ResponseCache::Impl::OfA& a = of_channel(of_a, first, frames, lead, tail);
    double energy = 0;
    for (const double v : y) energy += v * v;
    if (!std::isfinite(a.energy) || !std::isfinite(energy))
      throw Error(ErrorCode::bad_input, "A or B holds NaN or infinity; 'wavicon health' names the place");
    if (!(a.energy > 0 && energy > 0)) return;
    if (!divide(a.spectrum, y)) return;
    // Of crosstalk there may be none: noise makes a bound of it.
    if (task_.options.alignment && !channel.crosstalk_from) require_answer_in_place(a.spectrum);
    auto circular = cache_.transform->invert(cache_.quotient);
    auto impulse = cut_impulse(circular, static_cast<std::size_t>(tail), rest);
    for (int round = 0; impulse && !a.beside.empty() && round < kRounds; ++round) {
      const auto clean = without_neighbours(y, a, *impulse);
      energy = 0;
      for (const double v : clean) energy += v * v;
      if (!divide(a.spectrum, clean)) return;
      circular = cache_.transform->invert(cache_.quotient);
      impulse = cut_impulse(circular, static_cast<std::size_t>(tail), rest);
    }
    if (!impulse) return;
    channel.broadband_db = db_from_power_ratio(energy / a.energy);
    take_noise(circular);
    channel.impulse = impulse->taps;
    channel.impulse_zero = impulse->zero;
    channel.impulse_rest = impulse->rest;
    const double zero = static_cast<double>(impulse->zero) + impulse->rest;
    channel.delay_samples = task_.alignment.delay_frames + zero - static_cast<double>(impulse->before) - rest;
    find_spoiled(y, channel);
    evaluate(zero, channel);
    add_noise(impulse->squares, a, energy, channel);
  }

 private:
  void plan(std::size_t length) {
    if (cache_.transform && cache_.transform->length() == length) return;
    cache_.spectra.clear();
    cache_.transform.emplace(length);
    cache_.quotient.resize(length / 2 + 1);
  }

  const ResponseCache::Impl::OfA& of_channel(int channel, std::int64_t first, std::int64_t frames,
                                             std::int64_t lead, std::int64_t tail) {
    ResponseCache::Impl::OfA& of_a = cache_.spectra[{channel, first, frames}];
    if (!of_a.spectrum.empty()) return of_a;
    auto x = read_channel(task_.a, channel, first, frames);
    // What follows or comes before the sweep in A is not what is asked for.
    const auto take_off = [&](auto begin, auto end) {
      if (std::any_of(begin, end, [](double v) { return v != 0; }))
        of_a.beside.push_back({static_cast<std::size_t>(begin - x.begin()), {begin, end}});
      std::fill(begin, end, 0.0);
    };
    take_off(x.begin(), x.begin() + lead);
    take_off(x.end() - tail, x.end());
    for (const double v : x) of_a.energy += v * v;
    of_a.spectrum = cache_.transform->bins_of(x);
    return of_a;
  }

  // What the response makes of A's neighbours is taken off B, each by a transform as short as it is.
  std::vector<double> without_neighbours(std::span<const double> y, const ResponseCache::Impl::OfA& a,
                                         const CutImpulse& impulse) {
    std::vector<double> clean(y.begin(), y.end());
    for (const ResponseCache::Impl::Neighbour& beside : a.beside) {
      RealTransform& transform =
          cache_.short_ones.get(fast_transform_length(beside.samples.size() + impulse.taps.size() - 1));
      auto through = transform.bins_of(beside.samples);
      const auto filter = transform.bins_of(impulse.taps);
      for (std::size_t k = 0; k < through.size(); ++k) through[k] *= filter[k];
      const auto others = transform.invert(through);
      const auto first =
          static_cast<std::ptrdiff_t>(beside.first) - static_cast<std::ptrdiff_t>(impulse.before);
      for (std::ptrdiff_t n = std::max<std::ptrdiff_t>(0, -first);
           n < std::ssize(others) && first + n < std::ssize(clean); ++n)
        clean[static_cast<std::size_t>(first + n)] -= others[static_cast<std::size_t>(n)];
    }
    return clean;
  }

  // What a channel plays itself before and behind another one's sweep is no crosstalk.
  void leave_out_own(std::vector<double>& y, int of_a, int own, std::int64_t first, std::int64_t lead,
                     std::int64_t tail) const {
    if (own >= task_.a.channel_count()) return;
    const auto frames = static_cast<std::int64_t>(y.size());
    const auto swept = read_channel(task_.a, of_a, first, frames),
               x = read_channel(task_.a, own, first, frames);
    double top = 0;
    for (const double v : swept) top = std::max(top, std::abs(v));
    const auto plays = [&](double v) { return std::abs(v) > kOwnShare * top; };
    const auto margin = static_cast<std::ptrdiff_t>(kOwnMarginS * task_.rate);
    const auto last = std::find_if(x.rbegin() + (frames - lead), x.rend(), plays);
    if (last != x.rend())
      std::fill(y.begin(), y.begin() + std::min<std::ptrdiff_t>(lead, (x.rend() - last) + margin), 0.0);
    const auto next = std::find_if(x.begin() + (frames - tail), x.end(), plays);
    if (next != x.end())
      std::fill(y.begin() + std::max<std::ptrdiff_t>(frames - tail, (next - x.begin()) - margin), y.end(),
                0.0);
  }

  // Marks say nothing of what lies between them.
  void require_answer_in_place(const std::vector<std::complex<double>>& p) {
    const auto bins = cache_.transform->bins();
    std::vector<std::complex<double>> quotient(bins.begin(), bins.end());
    if (!divide_softly(p, quotient)) return;
    if (const auto crest = crest_of(cache_.transform->invert(quotient), task_.rate))
      require_answer(crest->over_rest_db);
  }

  // Y·X*/(|X|²+ε); false when A holds nothing in the middle of its band.
  bool divide(const std::vector<std::complex<double>>& p, std::span<const double> y) {
    const double bin = task_.rate / static_cast<double>(cache_.transform->length());
    const auto middle = static_cast<std::size_t>(std::sqrt(low_hz_ * high_hz_) / bin);
    const std::size_t width = std::max<std::size_t>(1, middle / 8);
    double power = 0;
    for (std::size_t k = middle - width / 2; k < middle - width / 2 + width; ++k)
      power += std::norm(p[k]) / static_cast<double>(width);
    if (!(power > 0)) return false;
    cache_.transform->execute(y);
    const auto q = cache_.transform->bins();
    for (std::size_t k = 0; k < q.size(); ++k) {
      // Without the checks for infinities that the operator makes.
      const double a = p[k].real(), b = p[k].imag(), c = q[k].real(), d = q[k].imag(),
                   weight = 1 / (a * a + b * b + kSweepLittle * power);
      cache_.quotient[k] = {(a * c + b * d) * weight, (a * d - b * c) * weight};
    }
    return true;
  }

  void evaluate(double zero, ChannelResponse& channel) const {
    const bool rising = task_.options.sweep_from_hz <= task_.options.sweep_to_hz;
    const auto spoiled = [&](double hz) {
      if (channel.cut_hz && (rising ? hz > *channel.cut_hz : hz < *channel.cut_hz)) return true;
      return std::any_of(channel.clipped_hz.begin(), channel.clipped_hz.end(),
                         [&](const auto& stretch) { return hz > stretch.first && hz < stretch.second; });
    };
    std::vector<double> moments(channel.impulse.size());
    for (std::size_t n = 0; n < moments.size(); ++n)
      moments[n] = (static_cast<double>(n) - zero) * channel.impulse[n];
    const BetweenBins response(channel.impulse, cache_.short_ones), slope(moments, cache_.short_ones);
    for (const double hz : response_axis(low_hz_ * (1 + kSweepEdge), high_hz_ * (1 - kSweepEdge))) {
      if (spoiled(hz)) continue;
      const double frequency = hz / task_.rate;
      const BetweenBins::Place place = response.place(frequency);
      const std::complex<double> ratio = response.at(place);
      ResponsePoint point{hz, ratio * std::polar(1.0, 2 * std::numbers::pi * frequency * zero), 1, 0};
      if (std::abs(ratio) > 0) point.group_delay_s = (slope.at(place) / ratio).real() / task_.rate;
      channel.points.push_back(point);
    }
    // Farther down lie the cuts and the arithmetic.
    double top = 0;
    for (const ResponsePoint& point : channel.points) top = std::max(top, std::abs(point.ratio));
    const std::size_t all = channel.points.size();
    std::erase_if(channel.points,
                  [&](const ResponsePoint& point) { return std::abs(point.ratio) < kSweepNothing * top; });
    if (all > 0)
      channel.left_out_share = static_cast<double>(all - channel.points.size()) / static_cast<double>(all);
  }

  // Frequency of the sweep a while after its start, with a margin.
  [[nodiscard]] double sweep_hz(double seconds, double margin) const {
    const double from = task_.options.sweep_from_hz, to = task_.options.sweep_to_hz;
    return from *
           std::pow(to / from, std::clamp(seconds / (static_cast<double>(task_.range.frames()) / task_.rate),
                                          0.0, 1.0)) *
           margin;
  }

  // Where B stands at its highest value for three frames and more, and where it is cut off.
  void find_spoiled(std::span<const double> y, ChannelResponse& channel) const {
    if (!(task_.options.sweep_from_hz > 0 && task_.options.sweep_to_hz > 0)) return;
    const double ends = static_cast<double>(task_.b.frames()) - task_.alignment.delay_frames;
    if (ends < static_cast<double>(task_.range.end) - kCutS * task_.rate)
      channel.cut_hz = sweep_hz((ends - static_cast<double>(task_.range.first)) / task_.rate, 1 / kCutMargin);
    double top = 0;
    for (const double v : y) top = std::max(top, std::abs(v));
    const auto lead = static_cast<std::size_t>(kLeadS * task_.rate);
    std::optional<std::pair<std::size_t, std::size_t>> open;
    const auto close = [&] {
      if (!open) return;
      const double a = sweep_hz((static_cast<double>(open->first) - static_cast<double>(lead)) / task_.rate,
                                1),
                   b = sweep_hz((static_cast<double>(open->second) - static_cast<double>(lead)) / task_.rate,
                                1);
      channel.clipped_hz.emplace_back(std::min(a, b) / kSpoiledMargin, std::max(a, b) * kSpoiledMargin);
      open.reset();
    };
    std::size_t run = 0, found = 0;
    for (std::size_t n = 0; n < y.size(); ++n) {
      run = top > kLeastTop && std::abs(y[n]) > kAtTop * top && (run == 0 || y[n] == y[n - 1]) ? run + 1 : 0;
      if (run < kClippedRun) continue;
      ++found;
      if (open && static_cast<double>(n - open->second) > kJoinS * task_.rate) close();
      open = open ? std::pair{open->first, n} : std::pair{n, n};
    }
    if (found >= kClippedRun) close();
  }

  // Before the response, and after what the second order of a log sweep leaves there, lies noise alone.
  void take_noise(std::span<const double> circular) {
    const double from = task_.options.sweep_from_hz, to = task_.options.sweep_to_hz,
                 seconds = static_cast<double>(task_.range.frames()) / task_.rate;
    double end_s = kMostBeforeS;
    if (from > 0 && to > from)
      end_s = std::min(end_s, kOfSecondOrder * seconds * std::log(2.0) / std::log(to / from));
    const double window_s = std::min(kNoiseWindowS, end_s - kNoiseGuardS);
    if (window_s < kLeastWindowS) return;
    const auto length = static_cast<std::size_t>(window_s * task_.rate),
               guard = static_cast<std::size_t>(kNoiseGuardS * task_.rate);
    const auto count = static_cast<std::size_t>(
        std::clamp((end_s - kNoiseGuardS) / window_s, 1.0, static_cast<double>(kMostNoiseWindows)));
    for (std::size_t i = 0; i < count; ++i) {
      const std::size_t back = guard + (i + 1) * length;
      if (back > circular.size() / 2) break;
      std::vector<double> piece(length);
      noise_squares_ = 0;
      for (std::size_t n = 0; n < length; ++n) {
        const double w = 0.5 - 0.5 * std::cos(2 * std::numbers::pi * (static_cast<double>(n) + 0.5) /
                                              static_cast<double>(length));
        piece[n] = w * circular[circular.size() - back + n];
        noise_squares_ += w * w;
      }
      noise_.push_back(std::move(piece));
    }
  }

  // What noise of a window as the response's own makes of each place, averaged over a third octave; and of
  // all of B.
  void add_noise(double squares, const ResponseCache::Impl::OfA& a, double energy, ChannelResponse& channel) {
    auto& points = channel.points;
    if (noise_.empty() || points.empty()) return;
    std::vector<double> power(points.size(), 0.0);
    std::vector<BetweenBins::Place> places;
    for (const auto& piece : noise_) {
      const BetweenBins spectrum(piece, cache_.short_ones);
      if (places.empty())
        for (const ResponsePoint& point : points) places.push_back(spectrum.place(point.hz / task_.rate));
      for (std::size_t i = 0; i < points.size(); ++i)
        power[i] += std::norm(spectrum.at(places[i])) * squares /
                    (noise_squares_ * static_cast<double>(noise_.size()));
    }
    constexpr auto kHalf = static_cast<std::ptrdiff_t>(kPerOctave / 6);
    const double bin = task_.rate / static_cast<double>(cache_.transform->length());
    std::vector<double> in_b;
    for (std::ptrdiff_t i = 0; i < std::ssize(points); ++i) {
      double sum = 0, count = 0;
      for (std::ptrdiff_t k = std::max<std::ptrdiff_t>(0, i - kHalf);
           k <= i + kHalf && k < std::ssize(points); ++k, ++count)
        sum += power[static_cast<std::size_t>(k)];
      ResponsePoint& point = points[static_cast<std::size_t>(i)];
      const double size = std::abs(point.ratio), widen = point.hz < kWidenBelowHz ? kWiden : 1;
      if (size > 0)
        point.uncertainty_db =
            std::hypot(kSweepMethodDb, widen * 2 * kDbOfAmplitudeShare * std::sqrt(sum / count / 2) / size);
      in_b.push_back(sum / count * std::norm(a.spectrum[static_cast<std::size_t>(point.hz / bin)]) / squares);
    }
    // Variance of a sample of the noise, by the middle of the axis.
    std::nth_element(in_b.begin(), in_b.begin() + std::ssize(in_b) / 2, in_b.end());
    channel.uncertainty.broadband_db = 4 * kDbOfPowerShare * std::sqrt(in_b[in_b.size() / 2] / energy);
  }

  const ResponseTask& task_;
  ResponseCache::Impl& cache_;
  std::vector<std::vector<double>> noise_;  // windowed
  double noise_squares_ = 0;                // of their window
  double low_hz_ = 0, high_hz_ = 0;
};

}  // namespace

void divide_sweep(const ResponseTask& task, ResponseCache::Impl& cache, int of_a, int of_b,
                  ChannelResponse& channel) {
  SweepDivision(task, cache).run(of_a, of_b, channel);
}

}  // namespace wavicon::measure_detail
