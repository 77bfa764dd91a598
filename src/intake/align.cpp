// SPDX-License-Identifier: MIT
#include "wavicon/intake/align.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>

#include "wavicon/audio/decimator.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon {
namespace {

constexpr double kLowRateHz = 11000;       // at least: what the coarse search is done at
constexpr double kLowCutoff = 0.35;        // of the low rate
constexpr double kExcerptS = 10;           // longest excerpt: 20 ppm of drift move it by two low samples
constexpr int kExcerpts = 3;               // tried one after the other
constexpr std::int64_t kSegment = 16384;   // frames
constexpr double kSegmentRateHz = 96000;   // up to half as much again; longer ones above
constexpr std::size_t kMostSegments = 64;  // spread over the whole: more do not bring the drift any nearer

constexpr double kWeakCoarse = 3e-4;    // of the highest bin: below, a phase is noise
constexpr double kWeak = 0.003;         // of the strongest bin: what is far weaker is likely to be noise
constexpr std::int64_t kNear = 64;      // frames by which a segment may lie off beside drift
constexpr double kAlike = 0.1;          // correlation of a segment that is believed
constexpr std::int64_t kFar = 8192;     // frames by which a slip may move a segment
constexpr double kPlainlyAlike = 0.98;  // coherence from which no second way is tried
constexpr double kClearly = 1.04;       // times as alike: the farther place is the right one
constexpr double kUsually = 0.9;        // of what other segments reach
constexpr int kPasses = 3;              // each with the place that the one before found
constexpr double kSlackS = 6e-5;        // by which neighbouring segments may differ
constexpr int kNewtonSteps = 16;        // it converges in four to six; the rest is a safeguard
constexpr double kStill = 1e-7;         // frames
constexpr double kOutlier = 4;          // median deviations
constexpr double kWholeFrame = 0.01;    // so near to a whole frame counts as one
constexpr double kSamePeak = 0.9;       // of the highest: a candidate

using Bins = std::vector<std::complex<double>>;

// std::abs guards against overflow, which costs more than all else here.
double size_of(const std::complex<double>& bin) { return std::sqrt(std::norm(bin)); }

double highest_of(const Bins& bins) {
  double highest = 0;
  for (const auto& bin : bins) highest = std::max(highest, std::norm(bin));
  return std::sqrt(highest);
}

double energy(std::span<const double> x) { return std::inner_product(x.begin(), x.end(), x.begin(), 0.0); }

struct Segment {
  std::int64_t first = 0;  // of the reference
  double delay = 0;        // capture place of its first frame, less that frame
  double weight = 0;
  double alike = 0;  // correlation with the capture there, 0 … 1
};

// A straight line of delays over frames.
struct Line {
  double delay = 0;
  double slope = 0;
  [[nodiscard]] double at(double frame) const { return delay + slope * frame; }
};

class Aligner {
 public:
  Aligner(AudioSource& reference, AudioSource& capture, const AlignOptions& options)
      : a_(reference), b_(capture), options_(options) {
    while (a_.sample_rate_hz() / static_cast<double>(2 * step_) > kLowRateHz) step_ *= 2;
  }

  std::optional<Alignment> run() {
    Alignment result;
    if (!find_coarse(result) || !track_segments()) return std::nullopt;
    find_slips(result);
    fit();
    for (int pass = 0; pass < kPasses; ++pass) {
      const Line before = line_;
      refine();
      fit();
      const double end = static_cast<double>(a_.frames());
      if (std::max(std::abs(line_.delay - before.delay), std::abs(line_.at(end) - before.at(end))) < kStill)
        break;
    }
    result.delay_frames = line_.delay;
    result.frames_per_frame = 1 + line_.slope;
    result.drift_ppm = line_.slope * 1e6;
    result.spread_frames = spread_;
    const double end = std::min(static_cast<double>(a_.frames()),
                                (static_cast<double>(b_.frames()) - line_.delay) / (1 + line_.slope));
    result.first_frame =
        static_cast<std::int64_t>(std::ceil(std::max(0.0, -line_.delay / (1 + line_.slope)) - kWholeFrame));
    result.end_frame = static_cast<std::int64_t>(std::floor(end + kWholeFrame));
    result.gain = gain(result);
    return result;
  }

 private:
  // One channel, low-passed, every step_-th sample; output i belongs to frame first + i·step_ (a constant
  // shift, the same for both, is left out).
  std::vector<double> low(AudioSource& source, int channel, std::int64_t first, std::int64_t frames) const {
    const Decimator decimate(step_, kLowCutoff);
    return decimate(
        read_channel(source, channel, first, frames + static_cast<std::int64_t>(decimate.length())));
  }

  // The places of the loudest excerpts of the reference, loudest first.
  [[nodiscard]] std::vector<std::int64_t> excerpts(std::int64_t length) const {
    std::vector<std::pair<double, std::int64_t>> places;
    std::vector<double> scratch(static_cast<std::size_t>(16384 * a_.channel_count()));
    const std::int64_t count = std::max<std::int64_t>(1, std::min<std::int64_t>(12, a_.frames() / length));
    for (std::int64_t i = 0; i < count; ++i) {
      const std::int64_t first = count == 1 ? 0 : i * (a_.frames() - length) / (count - 1);
      double sum = 0;
      // A look at a few places in each is enough to tell loud from soft.
      for (int k = 0; k < 8; ++k)
        sum += energy(read_channel(a_, options_.reference_channel, first + k * length / 8,
                                   std::min<std::int64_t>(4096, length / 8 + 1)));
      places.emplace_back(-sum, first);
    }
    std::sort(places.begin(), places.end());
    std::vector<std::int64_t> result;
    for (const auto& [level, first] : places)
      if (level < 0 && result.size() < kExcerpts) result.push_back(first);
    return result;
  }

  bool find_coarse(Alignment& result) {
    const auto length = std::min<std::int64_t>(std::min(a_.frames(), b_.frames()),
                                               static_cast<std::int64_t>(kExcerptS * a_.sample_rate_hz()));
    for (const std::int64_t first : excerpts(length)) {
      Alignment found;
      correlate(first, length, found);
      if (found.confidence > result.confidence) {
        result = found;
        excerpt_ = first;
      }
      if (result.confidence > 2 * options_.least_confidence) break;
    }
    coarse_ = result.delay_frames;
    return result.confidence >= options_.least_confidence;
  }

  // The excerpt against the whole capture, block by block.
  void correlate(std::int64_t first, std::int64_t length, Alignment& best) {
    const auto excerpt = low(a_, options_.reference_channel, first, length);
    RealTransform& transform = transforms_.get(fast_transform_length(4 * excerpt.size()));
    const Bins a = transform.bins_of(excerpt);
    const double weak = kWeakCoarse * highest_of(a);
    const std::size_t hop = transform.length() - excerpt.size();
    const auto step = static_cast<std::int64_t>(step_);
    double height = 0;
    for (std::int64_t start = -length; start < b_.frames(); start += static_cast<std::int64_t>(hop) * step) {
      const auto block = low(b_, options_.capture_channel, start,
                             (static_cast<std::int64_t>(transform.length()) - 1) * step);
      Bins b = transform.bins_of(std::span(block).first(std::min(block.size(), transform.length())));
      for (std::size_t k = 0; k < b.size(); ++k) {
        const double own = size_of(a[k]), size = std::sqrt(own * size_of(b[k]));
        b[k] = size > 0 ? b[k] * std::conj(a[k]) * (own / (size * (own + weak))) : 0;
      }
      b[0] = 0;
      const auto y = transform.invert(b).first(hop);
      const double rms = std::sqrt(energy(y) / static_cast<double>(hop));
      const auto peak =
          std::max_element(y.begin(), y.end(), [](double p, double q) { return std::abs(p) < std::abs(q); });
      const double confidence = rms > 0 ? std::abs(*peak) / rms : 0;
      if (confidence <= best.confidence) continue;
      auto place = [&](std::size_t i) {
        return static_cast<double>(start + static_cast<std::int64_t>(i) * step - first);
      };
      height = std::abs(*peak);
      best.confidence = confidence;
      best.delay_frames = place(static_cast<std::size_t>(peak - y.begin()));
      best.gain = *peak < 0 ? -1 : 1;
      best.candidates.clear();
      for (std::size_t i = 1; i + 1 < hop && best.candidates.size() < 8; ++i) {
        const double here = std::abs(y[i]);
        const bool crest = here > std::abs(y[i - 1]) && here >= std::abs(y[i + 1]);
        const bool apart = std::abs(place(i) - best.delay_frames) > static_cast<double>(8 * step);
        if (crest && apart && here > kSamePeak * height) best.candidates.push_back(place(i));
      }
    }
  }

  // Segments of the reference, each searched near where the one before it was found, outwards from the
  // excerpt.
  bool track_segments() {
    const auto common = std::min<std::int64_t>(a_.frames(), b_.frames() - std::llround(coarse_) + kNear);
    const std::int64_t begin = std::max<std::int64_t>(0, -std::llround(coarse_) - kNear);
    // A segment has to hold enough of what it is told by, whatever the rate.
    const std::int64_t segment =
        kSegment * std::max<std::int64_t>(1, std::llround(a_.sample_rate_hz() / kSegmentRateHz));
    const std::int64_t length = std::min(segment, std::max<std::int64_t>(256, common - begin));
    const auto count = static_cast<std::int64_t>(std::clamp<std::int64_t>(
        std::max((common - begin) / length, std::min<std::int64_t>(8, 2 * (common - begin) / length - 1)), 1,
        static_cast<std::int64_t>(kMostSegments)));
    std::vector<std::int64_t> places;
    for (std::int64_t i = 0; i < count; ++i)
      places.push_back(count == 1 ? begin : begin + i * (common - begin - length) / (count - 1));
    length_ = length;
    const auto middle = std::lower_bound(places.begin(), places.end(), excerpt_) - places.begin();
    auto walk = [&](std::ptrdiff_t from, std::ptrdiff_t to, std::ptrdiff_t way) {
      double delay = coarse_, usual = 0;
      std::int64_t known = excerpt_;
      for (std::ptrdiff_t i = from; i != to; i += way) {
        const std::int64_t first = places[static_cast<std::size_t>(i)];
        const double far = static_cast<double>(std::abs(first - known));
        const auto reach = kNear + 4 * static_cast<std::int64_t>(step_) +
                           (options_.drift ? std::llround(options_.most_drift_ppm * 1e-6 * far) : 0);
        auto found = search(first, delay, reach);
        // Frames may have been lost or repeated on the way here.
        if (!found || found->alike < kPlainlyAlike)
          if (auto far_off = search(first, delay, reach + kFar);
              far_off && far_off->alike > kUsually * usual &&
              (!found || far_off->alike > kClearly * found->alike))
            found = far_off;
        if (found && found->alike > 0.5 * usual) {
          usual = std::max(usual, found->alike);
          segments_.push_back(*found);
          delay = found->delay;
          known = first;
        }
      }
    };
    walk(std::min<std::ptrdiff_t>(middle, count - 1), count, 1);
    walk(std::min<std::ptrdiff_t>(middle, count - 1) - 1, -1, -1);
    return !segments_.empty();
  }

  std::optional<Segment> search(std::int64_t first, double delay, std::int64_t reach) {
    const auto x = read_channel(a_, options_.reference_channel, first, length_);
    const double level = energy(x);
    if (level == 0) return std::nullopt;
    const std::int64_t start = first + std::llround(delay) - reach;
    const auto y = read_channel(b_, options_.capture_channel, start, length_ + 2 * reach);
    RealTransform& transform =
        transforms_.get(fast_transform_length(static_cast<std::size_t>(2 * length_ + 2 * reach)));
    const Bins a = transform.bins_of(x);
    Bins b = transform.bins_of(y);
    const double weak = kWeak * highest_of(a);
    for (std::size_t k = 0; k < b.size(); ++k) {
      const double size = size_of(a[k]) + weak;
      b[k] *= std::conj(a[k]) / (size * std::sqrt(size));
    }
    const auto correlation = transform.invert(b).first(static_cast<std::size_t>(2 * reach + 1));
    const auto peak = std::max_element(correlation.begin(), correlation.end(),
                                       [](double p, double q) { return std::abs(p) < std::abs(q); });
    // Believed when the two look alike there, as they stand.
    const auto offset = static_cast<std::size_t>(peak - correlation.begin());
    const std::span<const double> there(y.data() + offset, x.size());
    const double other = energy(there);
    const double alike = std::inner_product(x.begin(), x.end(), there.begin(), 0.0);
    if (other == 0 || std::abs(alike) < kAlike * std::sqrt(level * other)) return std::nullopt;
    return Segment{first, static_cast<double>(start - first + (peak - correlation.begin())), level,
                   std::abs(alike) / std::sqrt(level * other)};
  }

  // Delays that change by more than drift explains, and stay so.
  void find_slips(Alignment& result) {
    std::sort(segments_.begin(), segments_.end(),
              [](const Segment& p, const Segment& q) { return p.first < q.first; });
    // Neighbours that agree form a piece; a segment alone is an accident, or holds the place itself.
    const Segment *piece_end = nullptr, *previous = nullptr;
    std::size_t agreed = 0;
    // At high rates a place is no surer in time than at low ones.
    const double slack = std::max(1.0, kSlackS * a_.sample_rate_hz());
    for (const Segment& s : segments_) {
      const double far = previous == nullptr ? 0 : static_cast<double>(s.first - previous->first);
      const double drift = 1 + (options_.drift ? options_.most_drift_ppm * 1e-6 * far : 0);
      agreed = previous != nullptr && std::abs(s.delay - previous->delay) < drift ? agreed + 1 : 0;
      previous = &s;
      if (agreed == 0) continue;
      const double moved = piece_end == nullptr ? 0 : s.delay - piece_end->delay;
      if (piece_end != nullptr && agreed == 1 && std::abs(moved) > drift + slack)
        result.slips.push_back({piece_end->first, s.first, std::llround(moved)});
      piece_end = &s;
    }
  }

  // A line through the delays: medians first, then least squares over what lies near it.
  void fit() {
    if (segments_.size() == 1 || !options_.drift) {
      line_ = {median(segments_, [](const Segment& s) { return s.delay; }), 0};
      refit(false);
      return;
    }
    std::vector<double> slopes;
    for (std::size_t i = 0; i < segments_.size(); ++i)
      for (std::size_t j = i + 1; j < segments_.size(); ++j)
        if (segments_[i].first != segments_[j].first)
          slopes.push_back((segments_[j].delay - segments_[i].delay) /
                           static_cast<double>(segments_[j].first - segments_[i].first));
    line_.slope = slopes.empty() ? 0 : middle(slopes);
    line_.delay = median(segments_, [&](const Segment& s) { return s.delay - line_.slope * centre(s); });
    refit(true);
  }

  [[nodiscard]] double centre(const Segment& s) const {
    return static_cast<double>(s.first) + static_cast<double>(length_) / 2;
  }

  void refit(bool with_slope) {
    const double deviation =
        median(segments_, [&](const Segment& s) { return std::abs(s.delay - line_.at(centre(s))); });
    const double limit = std::max(1e-9, kOutlier * deviation);
    double w = 0, wx = 0, wy = 0, wxx = 0, wxy = 0, squares = 0;
    for (const Segment& s : segments_) {
      if (std::abs(s.delay - line_.at(centre(s))) > limit) continue;
      const double x = centre(s) - centre(segments_[0]);
      w += s.weight;
      wx += s.weight * x;
      wy += s.weight * s.delay;
      wxx += s.weight * x * x;
      wxy += s.weight * x * s.delay;
    }
    const double determinant = w * wxx - wx * wx;
    const double slope = with_slope && determinant > 1e-12 * w * wxx ? (w * wxy - wx * wy) / determinant : 0;
    line_ = {(wy - slope * wx) / w - slope * centre(segments_[0]), slope};
    for (const Segment& s : segments_)
      squares += s.weight * std::pow(std::clamp(s.delay - line_.at(centre(s)), -limit, limit), 2);
    spread_ = std::sqrt(squares / w);
  }

  template <typename Value>
  static double median(const std::vector<Segment>& segments, Value&& value) {
    std::vector<double> values;
    for (const Segment& s : segments) values.push_back(value(s));
    return middle(values);
  }
  static double middle(std::vector<double>& values) {
    const auto at = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
    std::nth_element(values.begin(), at, values.end());
    return *at;
  }

  // What is left of each segment's delay once the capture is read along the line.
  void refine() {
    RealTransform& transform = transforms_.get(fast_transform_length(static_cast<std::size_t>(length_)));
    Alignment along;
    along.delay_frames = line_.delay;
    along.frames_per_frame = 1 + line_.slope;
    std::vector<double> y(static_cast<std::size_t>(length_)), hann(y.size());
    for (std::size_t n = 0; n < hann.size(); ++n)
      hann[n] = 0.5 - 0.5 * std::cos(2 * std::numbers::pi * (static_cast<double>(n) + 0.5) /
                                     static_cast<double>(length_));
    for (Segment& s : segments_) {
      auto x = read_channel(a_, options_.reference_channel, s.first, length_);
      read_aligned(b_, options_.capture_channel, along, s.first, reader_, y);
      for (std::size_t n = 0; n < x.size(); ++n) {
        x[n] *= hann[n];
        y[n] *= hann[n];
      }
      s.delay = line_.at(centre(s)) + residual_delay(x, y, transform);
    }
  }

  // Maximum of the correlation near 0, by Newton's method on the cross-spectrum.
  double residual_delay(std::span<const double> x, std::span<const double> y, RealTransform& transform) {
    const double turn = 2 * std::numbers::pi / static_cast<double>(transform.length());
    const Bins a = transform.bins_of(x);
    Bins cross = transform.bins_of(y);
    for (std::size_t k = 0; k < cross.size(); ++k) cross[k] *= std::conj(a[k]);
    double delay = 0, sign = 0, limit = 1, last = 0;
    for (int i = 0; i < kNewtonSteps; ++i) {
      double sum = 0, slope = 0, curvature = 0;
      const std::complex<double> step = std::polar(1.0, turn * delay);
      std::complex<double> phase = step;
      for (std::size_t k = 1; k < cross.size(); ++k, phase *= step) {
        const double w = turn * static_cast<double>(k);
        const double re = cross[k].real() * phase.real() - cross[k].imag() * phase.imag(),
                     im = cross[k].real() * phase.imag() + cross[k].imag() * phase.real();
        sum += re;
        slope -= w * im;
        curvature -= w * w * re;
      }
      if (sign == 0) sign = sum < 0 ? -1 : 1;
      if (sign * curvature >= 0) break;
      double move = -slope / curvature;
      // Half a sample off, steps of one sample would jump over the crest and back for ever.
      if (move * last < 0) limit /= 2;
      move = std::clamp(move, -limit, limit);
      last = move;
      delay += move;
      if (std::abs(move) < 1e-10) break;
    }
    return delay;
  }

  double gain(const Alignment& along) {
    double both = 0, own = 0;
    std::vector<double> y(static_cast<std::size_t>(length_));
    for (const Segment& s : segments_) {
      const auto x = read_channel(a_, options_.reference_channel, s.first, length_);
      read_aligned(b_, options_.capture_channel, along, s.first, reader_, y);
      both += std::inner_product(x.begin(), x.end(), y.begin(), 0.0);
      own += energy(x);
    }
    return both / own;
  }

  AudioSource& a_;
  AudioSource& b_;
  AlignOptions options_;
  std::size_t step_ = 1;
  std::int64_t excerpt_ = 0;
  double coarse_ = 0;
  std::int64_t length_ = 0;
  std::vector<Segment> segments_;
  Line line_;  // delay of a place of the reference
  double spread_ = 0;
  RealTransforms transforms_;
  FractionalReader reader_;
};

}  // namespace

std::optional<Alignment> align(AudioSource& reference, AudioSource& capture, const AlignOptions& options) {
  if (reference.sample_rate_hz() != capture.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("the reference has {:g} Hz and the capture {:g} Hz: bring both to one rate first",
                            reference.sample_rate_hz(), capture.sample_rate_hz()));
  for (const auto& [source, channel] :
       {std::pair{&reference, options.reference_channel}, {&capture, options.capture_channel}}) {
    if (source->frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
    if (channel < 0 || channel >= source->channel_count())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("there is no channel {}, it has {}", channel + 1, source->channel_count()));
  }
  return Aligner(reference, capture, options).run();
}

void read_aligned(AudioSource& capture, int channel, const Alignment& alignment, std::int64_t first_frame,
                  const FractionalReader& reader, std::span<double> out) {
  const double place = alignment.delay_frames + static_cast<double>(first_frame) * alignment.frames_per_frame;
  const auto begin = static_cast<std::int64_t>(std::floor(place)) - FractionalReader::kReach;
  const auto count = static_cast<std::int64_t>(static_cast<double>(out.size()) * alignment.frames_per_frame) +
                     2 * FractionalReader::kReach + 2;
  const auto x = read_channel(capture, channel, begin, count);
  reader.read(x, place - static_cast<double>(begin), alignment.frames_per_frame, out);
}

}  // namespace wavicon
