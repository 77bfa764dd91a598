// SPDX-License-Identifier: MIT
#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/match.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kTaps = 128;        // of the response that is looked at between A and B
constexpr std::int64_t kSegments = 16;    // spread over the whole
constexpr double kAsLittle = 1.1;         // power
constexpr double kLinearRest = 4;         // power: 6 dB
constexpr double kFarOff = 0.05;          // power that a gain leaves
constexpr double kMostDropped = 1;        // frames over the whole: so far a filter may pull, not a clock
constexpr double kMostPolish = 0.2;       // frames
constexpr double kMainTap = 0.7;          // of the filter's power
constexpr double kWholeByPhase = 0.05;    // frames
constexpr double kBeta = 14;              // of the Kaiser window: side lobes at -106 dB
constexpr double kCoherent = 0.9;         // share from which a bin's phase counts
constexpr std::size_t kLeastBins = 200;   // of 8192
constexpr std::ptrdiff_t kFarthest = 64;  // frames: half of the taps

// What is left over some segments, over the programme: with the gain alone, and with a short filter matched.
struct Remainder {
  double plain = 1;
  double matched = 1;
  std::vector<double> filter;
};

class Settler {
 public:
  Settler(AudioSource& a, AudioSource& b, const ChannelPair& pair, const FrameRange& stretch)
      : a_(a), b_(b), pair_(pair), stretch_(stretch) {}

  Remainder remainder(const Alignment& alignment, bool whole) {
    AlignedReader reader(b_, {pair_}, alignment, whole);
    ResponseMatch match(kTaps);
    double own = 0, both = 0, other = 0, rest = 0;
    for_segments(a_, reader, stretch_, kGainSegment, kTaps, kSegments,
                 [&](auto x, auto y, std::size_t length, std::int64_t) {
                   const auto a = of_a(x, length);
                   match.add(a, y);
                   const auto p = spectra_(a), q = spectra_(y.subspan(kTaps, length));
                   for (std::size_t k = 0; k < spectra_.passed(p.size()); ++k) {
                     own += std::norm(p[k]);
                     both += (std::conj(p[k]) * q[k]).real();
                     other += std::norm(q[k]);
                   }
                 });
    Remainder result{1, 1, match.solve()};
    if (own == 0 || other == 0) return result;
    reader.set_filter(0, result.filter);
    for_segments(a_, reader, stretch_, kGainSegment, 0, kSegments,
                 [&](auto x, auto y, std::size_t length, std::int64_t) {
                   const auto a = of_a(x, length);
                   std::vector<double> left(length);
                   for (std::size_t n = 0; n < length; ++n) left[n] = a[n] - y[n];
                   const auto r = spectra_(left);
                   for (std::size_t k = 0; k < spectra_.passed(r.size()); ++k) rest += std::norm(r[k]);
                 });
    result.plain = 1 - both * both / (own * other);
    result.matched = rest / own;
    return result;
  }

  // What is left of the delay shows as a slope of phase that is the same in every segment, or grows along
  // them with the drift: one step of least squares over all of them.
  void polish(Alignment& alignment, bool fixed_delay, bool fixed_drift) {
    AlignedReader reader(b_, {pair_}, alignment, false);
    const double span = std::max(1.0, static_cast<double>(stretch_.frames()));
    double w = 0, wt = 0, wd = 0, wtt = 0, wtd = 0;
    for_segments(a_, reader, stretch_, kGainSegment, 0, kGainSegments,
                 [&](auto x, auto y, std::size_t length, std::int64_t first) {
                   const auto a = spectra_(of_a(x, length)), b = spectra_(y.first(length));
                   double weight = 0, turned = 0;
                   for (std::size_t k = 1; k < spectra_.passed(a.size()); ++k) {
                     const double omega =
                         std::numbers::pi * static_cast<double>(k) / static_cast<double>(a.size() - 1);
                     const auto cross = std::conj(a[k]) * b[k];
                     weight += omega * omega * cross.real();
                     turned -= omega * cross.imag();
                   }
                   // Inverted B turns both.
                   if (weight < 0) {
                     weight = -weight;
                     turned = -turned;
                   }
                   const double t =
                       (static_cast<double>(first) + 0.5 * static_cast<double>(length) - middle()) / span;
                   w += weight;
                   wt += weight * t;
                   wd += turned;
                   wtt += weight * t * t;
                   wtd += turned * t;
                 });
    if (!(w > 0)) return;
    const double determinant = w * wtt - wt * wt;
    const bool with_drift = alignment.drift_ppm != 0 && !fixed_drift && determinant > 1e-9 * w * w;
    const double slope = with_drift ? (w * wtd - wt * wd) / determinant : 0, late = (wd - slope * wt) / w;
    if (!(std::abs(late) < kMostPolish) || !(std::abs(slope) < kMostPolish)) return;
    alignment.frames_per_frame += slope / span;
    alignment.drift_ppm = (alignment.frames_per_frame - 1) * 1e6;
    if (!fixed_delay) alignment.delay_frames += late - slope / span * middle();
  }

  // Frames by which B still comes late where A and B are coherent, every frequency counting the same: the
  // phase of an equaliser's cuts and bells shifts what is loud, not most of the axis. None when little is.
  [[nodiscard]] std::optional<double> left_over(const Alignment& alignment) {
    AlignedReader reader(b_, {pair_}, alignment, false);
    std::vector<double> xx, yy, window;
    std::vector<std::complex<double>> xy;
    for_segments(a_, reader, stretch_, kGainSegment, 0, kSegments,
                 [&](auto x, auto y, std::size_t length, std::int64_t) {
                   if (window.size() != length) window = kaiser_window(length, kBeta);
                   const auto windowed = [&](std::span<const double> samples) {
                     std::vector<double> result(length);
                     for (std::size_t n = 0; n < length; ++n) result[n] = window[n] * samples[n];
                     return spectra_(result);
                   };
                   const auto a = windowed(of_a(x, length)), b = windowed(y.first(length));
                   xx.resize(a.size());
                   yy.resize(a.size());
                   xy.resize(a.size());
                   for (std::size_t k = 0; k < a.size(); ++k) {
                     xx[k] += std::norm(a[k]);
                     yy[k] += std::norm(b[k]);
                     xy[k] += std::conj(a[k]) * b[k];
                   }
                 });
    // Whitened, and weighted as a slope of phase is.
    std::vector<std::complex<double>> even(xy.size());
    std::size_t used = 0;
    for (std::size_t k = 1; k < spectra_.passed(xy.size()); ++k) {
      if (!(std::norm(xy[k]) > kCoherent * xx[k] * yy[k]) || xx[k] == 0) continue;
      even[k] = static_cast<double>(k) * xy[k] / std::abs(xy[k]);
      ++used;
    }
    if (used < kLeastBins) return std::nullopt;
    RealTransform transform(2 * (xy.size() - 1));
    const auto over_time = transform.invert(even);
    const auto length = static_cast<std::ptrdiff_t>(over_time.size());
    std::ptrdiff_t top = 0;
    const auto size = [&](std::ptrdiff_t n) {
      return std::abs(over_time[static_cast<std::size_t>((n + length) % length)]);
    };
    for (std::ptrdiff_t n = -kFarthest; n <= kFarthest; ++n)
      if (size(n) > size(top)) top = n;
    double late = static_cast<double>(top);
    for (int step = 0; step < 3; ++step) {
      double slope = 0, bend = 0;
      for (std::size_t k = 1; k < even.size(); ++k) {
        const double omega = 2 * std::numbers::pi * static_cast<double>(k) / static_cast<double>(length);
        const std::complex<double> left = even[k] * std::polar(1.0, omega * late);
        slope -= omega * left.imag();
        bend += omega * omega * left.real();
      }
      if (bend == 0 || std::abs(slope / bend) > 1) return std::nullopt;
      late += slope / bend;
    }
    return late;
  }

  [[nodiscard]] double middle() const { return 0.5 * static_cast<double>(stretch_.first + stretch_.end); }

 private:
  [[nodiscard]] std::span<const double> of_a(std::span<const double> x, std::size_t length) const {
    return x.subspan(static_cast<std::size_t>(pair_.a) * length, length);
  }

  AudioSource& a_;
  AudioSource& b_;
  ChannelPair pair_;
  FrameRange stretch_;
  SegmentSpectra spectra_;
};

// Whether the filter that a remainder was matched with has one tap that holds most of it; then the delay to
// it.
std::optional<double> main_tap(const Remainder& remainder) {
  const auto& filter = remainder.filter;
  const auto top = std::max_element(filter.begin(), filter.end(),
                                    [](double p, double q) { return std::abs(p) < std::abs(q); });
  double squares = 0;
  for (const double tap : filter) squares += tap * tap;
  if (!(*top * *top > kMainTap * squares)) return std::nullopt;
  return static_cast<double>(kTaps / 2) - static_cast<double>(top - filter.begin());
}

}  // namespace

Settled settle(AudioSource& a, AudioSource& b, const ChannelPair& pair, const Alignment& found,
               const FrameRange& stretch, bool fixed_delay, bool fixed_drift) {
  Settler settler(a, b, pair, stretch);
  Alignment alignment = found;
  Remainder best = settler.remainder(alignment, false);
  const auto take_if_as_good = [&](const Alignment& other, bool whole) {
    Remainder left = settler.remainder(other, whole);
    if (left.matched > kAsLittle * best.matched) return false;
    alignment = other;
    best = std::move(left);
    return true;
  };
  const double turned = std::abs(alignment.frames_per_frame - 1) * static_cast<double>(stretch.frames());
  if (!fixed_drift && alignment.drift_ppm != 0 && turned < kMostDropped) {
    auto simpler = alignment;
    simpler.delay_frames += (alignment.frames_per_frame - 1) * settler.middle();
    simpler.frames_per_frame = 1;
    simpler.drift_ppm = 0;
    take_if_as_good(simpler, false);
  }
  const bool filtered = best.plain > kLinearRest * best.matched || best.plain > kFarOff;
  bool by_phase = false;
  if (!filtered) {
    settler.polish(alignment, fixed_delay, fixed_drift);
  } else if (const auto late = fixed_delay ? std::nullopt : settler.left_over(alignment)) {
    auto moved = alignment;
    moved.delay_frames += *late;
    by_phase = take_if_as_good(moved, false);
  }
  if (fixed_delay || alignment.drift_ppm != 0) return {alignment, false};
  auto whole = alignment;
  whole.delay_frames = std::round(alignment.delay_frames);
  const double beside = std::abs(alignment.delay_frames - whole.delay_frames);
  if (beside < kWholeFrame) return {whole, true};
  if (!filtered) return {alignment, false};
  if (by_phase && beside < kWholeByPhase && take_if_as_good(whole, true)) return {alignment, true};
  const auto tap = main_tap(settler.remainder(whole, true));
  if (tap) whole.delay_frames += *tap;
  const bool taken = tap && take_if_as_good(whole, true);
  return {alignment, taken};
}

}  // namespace wavicon::measure_detail
