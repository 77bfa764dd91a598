#include <algorithm>
#include <cmath>
#include <numbers>

#include "null_match.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kTaps = 128;
constexpr std::int64_t kSegments = 16;
constexpr double kDoubtfulDriftPpm = 2;
constexpr double kAsLittle = 1.1;    // power
constexpr double kLinearRest = 100;  // power: 20 dB
constexpr double kMostPolish = 0.2;  // frames
constexpr double kMainTap = 0.7;     // of the filter's power

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

}  // namespace

Settled settle(AudioSource& a, AudioSource& b, const ChannelPair& pair, const Alignment& found,
               const FrameRange& stretch, bool fixed_delay, bool fixed_drift) {
  Settler settler(a, b, pair, stretch);
  Settled result{found, false};
  Alignment& alignment = result.alignment;
  Remainder best = settler.remainder(alignment, false);
  const double drift = std::abs(alignment.drift_ppm);
  if (!fixed_drift && drift > 0 && drift < kDoubtfulDriftPpm) {
    auto simpler = alignment;
    simpler.delay_frames += (alignment.frames_per_frame - 1) * settler.middle();
    simpler.frames_per_frame = 1;
    simpler.drift_ppm = 0;
    Remainder left = settler.remainder(simpler, false);
    if (left.matched <= kAsLittle * best.matched) {
      alignment = simpler;
      best = std::move(left);
    }
  }
  const bool filtered = best.plain > kLinearRest * best.matched;
  if (!filtered) settler.polish(alignment, fixed_delay, fixed_drift);
  if (fixed_delay || alignment.drift_ppm != 0) return result;
  auto whole = alignment;
  whole.delay_frames = std::round(alignment.delay_frames);
  if (std::abs(alignment.delay_frames - whole.delay_frames) < kWholeFrame) {
    result.whole = true;
  } else if (filtered) {
    // Is the main tap of the filter at a whole frame?
    const Remainder there = settler.remainder(whole, true);
    const auto top = std::max_element(there.filter.begin(), there.filter.end(),
                                      [](double p, double q) { return std::abs(p) < std::abs(q); });
    double squares = 0;
    for (const double tap : there.filter) squares += tap * tap;
    whole.delay_frames += static_cast<double>(kTaps / 2) - static_cast<double>(top - there.filter.begin());
    result.whole = *top * *top > kMainTap * squares &&
                   settler.remainder(whole, true).matched <= kAsLittle * best.matched;
  }
  if (result.whole) alignment = whole;
  return result;
}

}  // namespace wavicon::measure_detail
