// SPDX-License-Identifier: MIT
#include "tone_pieces.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <map>
#include <numbers>
#include <numeric>
#include <optional>

#include "fade_fit.hpp"
#include "samples.hpp"
#include "segment_delay.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::array kSeedsS = {0.34, 0.17, 0.085, 0.043, 0.021, 0.0107};
constexpr double kLeastPeriods = 8;  // of a seed, and of a piece
constexpr double kLeastPieceS = 0.008;
constexpr double kBlockPeriods = 4;  // of one look at the complex amplitude
constexpr double kLeastBlock = 64;   // frames
constexpr double kKaiserBeta = 8;
constexpr std::size_t kLobe = 8;        // bins of the padded transform
constexpr double kLeastOfAll = 0.3;     // of the power, in the strongest line: a square wave has 0.8
constexpr double kHighest = 0.49;       // of the rate
constexpr double kSeedStray = 0.1;      // of the power: what neither the tone nor its orders are
constexpr double kAlike = 0.006;        // relative change of the complex amplitude that is none
constexpr double kOverNoise = 4;        // standard deviations that are none either
constexpr double kMostWander = 0.03;    // however much noise there is
constexpr double kStrays = 0.02;        // of the amplitude: a sample that is not the tone's
constexpr double kMostStraying = 0.35;  // of the samples of half a period
constexpr double kSeenOfFade = 0.91;    // the rest of a raised cosine is within kStrays of the tone
constexpr double kLongestFadeS = 0.3;
constexpr double kMostOutside = 0.3;   // of a fade: what of it the noise hides
constexpr double kFittedStray = 0.01;  // RMS of what a fitted fade leaves, over the amplitude
constexpr double kDip = 0.3;           // of the softer one's amplitude: between two tones that are faded
constexpr int kOrders = 9;
constexpr std::size_t kMostPieces = 4000;  // of one island: more is no test signal

using Complex = std::complex<double>;

// A sine with its course of phase: amplitude · sin 2π(phase + rate · (n - at)).
struct Sine {
  double rate = 0;  // cycles per frame
  double at = 0;
  double phase = 0;  // cycles
  double amplitude = 0;
  [[nodiscard]] double operator()(double n) const {
    return amplitude * std::sin(2 * std::numbers::pi * (phase + rate * (n - at)));
  }
};

class Grower {
 public:
  Grower(std::span<const double> x, double sample_rate_hz, double noise_rms, std::int64_t room_before,
         std::int64_t room_after)
      : x_(x),
        rate_hz_(sample_rate_hz),
        noise_(noise_rms),
        room_before_(room_before),
        room_after_(room_after) {}

  std::vector<TonePiece> run() {
    cover(0, static_cast<std::int64_t>(x_.size()));
    std::sort(pieces_.begin(), pieces_.end(),
              [](const TonePiece& p, const TonePiece& q) { return p.first < q.first; });
    join();
    return std::move(pieces_);
  }

 private:
  struct Look {
    double at = 0;      // middle, frames
    Complex amplitude;  // of the sine, with the phase at `at`
  };

  // Complex amplitude of a sine of that rate around a place, its phase as it is there.
  [[nodiscard]] Complex look(double rate, std::int64_t first, std::int64_t length) const {
    return sine_amplitude(x_.subspan(static_cast<std::size_t>(first), static_cast<std::size_t>(length)),
                          rate);
  }
  [[nodiscard]] static std::int64_t block_of(double rate) {
    return std::llround(std::ceil(std::max(kBlockPeriods, kLeastBlock * rate)) / rate);
  }

  // The strongest line of a stretch, where it stands still and is most of it.
  std::optional<Sine> seed(std::int64_t first, std::int64_t length) {
    const auto size = static_cast<std::size_t>(length);
    RealTransform& transform = transforms_.get(fast_transform_length(2 * size));
    const auto window = windows_.get(size, kKaiserBeta);
    std::vector<double> part(size);
    for (std::size_t n = 0; n < size; ++n) part[n] = window[n] * x_[static_cast<std::size_t>(first) + n];
    const auto bins = transform.bins_of(part);
    std::size_t top = 1;
    for (std::size_t k = 2; k + 1 < bins.size(); ++k)
      if (std::norm(bins[k]) > std::norm(bins[top])) top = k;
    if (top + 1 >= bins.size() || !(std::norm(bins[top]) > 0)) return std::nullopt;
    double near = 0, all = 0;
    for (std::size_t k = 1; k < bins.size(); ++k) {
      all += std::norm(bins[k]);
      if (k + kLobe >= top && k <= top + kLobe) near += std::norm(bins[k]);
    }
    if (near < kLeastOfAll * all) return std::nullopt;
    double rate = (static_cast<double>(top) +
                   line_offset(std::norm(bins[top - 1]), std::norm(bins[top]), std::norm(bins[top + 1]))) /
                  static_cast<double>(transform.length());
    if (rate * static_cast<double>(length) < kLeastPeriods || rate > kHighest) return std::nullopt;
    // Both halves say the same, once the rate is right.
    const std::int64_t half = length / 2;
    Complex early, late;
    for (int round = 0; round < 4; ++round) {
      early = look(rate, first, half);
      late = look(rate, first + half, half) *
             std::polar(1.0, -2 * std::numbers::pi * rate * static_cast<double>(half));
      if (early == 0.0 || late == 0.0) return std::nullopt;
      rate += std::arg(late / early) / (2 * std::numbers::pi * static_cast<double>(half));
    }
    if (!(rate > 0 && rate < kHighest) || std::abs(late / early - 1.0) > 2 * kMostWander) return std::nullopt;
    Sine sine{rate, static_cast<double>(first) + 0.5 * static_cast<double>(half - 1),
              std::arg(early) / (2 * std::numbers::pi), std::abs(early)};
    return stray_of(sine, first, length) < kSeedStray ? std::optional(sine) : std::nullopt;
  }

  // Power that neither the sine nor orders of it explain, over all.
  [[nodiscard]] double stray_of(const Sine& sine, std::int64_t first, std::int64_t length) {
    const auto size = static_cast<std::size_t>(length);
    const auto stretch = x_.subspan(static_cast<std::size_t>(first), size);
    const double mean = std::accumulate(stretch.begin(), stretch.end(), 0.0) / static_cast<double>(length);
    std::vector<double>& window = fades_[size];
    if (window.empty()) window = hann_window(size);
    std::vector<double> weighed(size);
    double all = 0, weight = 0;
    for (std::size_t n = 0; n < size; ++n) {
      const double v = stretch[n] - mean;
      weighed[n] = window[n] * v;
      all += weighed[n] * v;
      weight += window[n];
    }
    double explained = 0;
    for (const double power : powers_of_orders(weighed, sine.rate, kOrders, kHighest))
      explained += 2 * power / weight;
    return all > 0 ? std::max(0.0, 1 - explained / all) : 1;
  }

  // The longest seeds first, all over; then shorter ones in what is left.
  void cover(std::int64_t from, std::int64_t to) {
    const auto least = static_cast<std::int64_t>(kLeastPieceS * rate_hz_);
    std::vector<std::pair<std::int64_t, std::int64_t>> open = {{from, to}};
    for (const double seconds : kSeedsS) {
      const auto length = static_cast<std::int64_t>(seconds * rate_hz_);
      std::vector<std::pair<std::int64_t, std::int64_t>> left;
      for (auto [begin, end] : open) {
        for (std::int64_t at = begin; at + length <= end;) {
          std::optional<TonePiece> piece;
          if (const auto found = seed(at, length)) piece = grown(*found, at, length, begin, end);
          if (!piece) {
            at += std::max<std::int64_t>(1, length / 2);
            continue;
          }
          if (piece->steady_first - begin >= least) left.emplace_back(begin, piece->steady_first);
          begin = at = piece->steady_end;
          pieces_.push_back(*piece);
          if (pieces_.size() > kMostPieces) return;
        }
        if (end - begin >= least) left.emplace_back(begin, end);
      }
      open = std::move(left);
    }
  }

  std::optional<TonePiece> grown(const Sine& seed, std::int64_t first, std::int64_t length, std::int64_t from,
                                 std::int64_t to) {
    const std::int64_t block = block_of(seed.rate), hop = std::max<std::int64_t>(1, block / 2);
    if (block > length) return std::nullopt;
    const double deviation = noise_ * std::sqrt(3.0 / static_cast<double>(block)) / seed.amplitude,
                 most = std::min(kMostWander, kAlike + kOverNoise * deviation);
    std::vector<Look> looks;
    for (std::int64_t at = first; at + block <= first + length; at += hop)
      looks.push_back(seen(seed.rate, at, block));
    Line line = line_of(looks, seed.rate);
    if (!agree(looks, line, 2 * most)) return std::nullopt;
    // Outwards, one look after the other, the line found anew as it grows.
    bool left = true, right = true;
    std::int64_t begin = first, end = first + block + static_cast<std::int64_t>(looks.size() - 1) * hop;
    while (left || right) {
      const std::size_t before = looks.size();
      for (std::size_t i = 0; right && i < std::max<std::size_t>(1, before / 2); ++i) {
        right = end + hop <= to;
        if (!right) break;
        const Look next = seen(line.rate, end + hop - block, block);
        right = std::abs(next.amplitude / line.at(next.at) - 1.0) < most;
        if (!right) break;
        looks.push_back(next);
        end += hop;
      }
      for (std::size_t i = 0; left && i < std::max<std::size_t>(1, before / 2); ++i) {
        left = begin - hop >= from;
        if (!left) break;
        const Look next = seen(line.rate, begin - hop, block);
        left = std::abs(next.amplitude / line.at(next.at) - 1.0) < most;
        if (!left) break;
        looks.insert(looks.begin(), next);
        begin -= hop;
      }
      line = line_of(looks, line.rate);
    }
    if (!agree(looks, line, most)) return std::nullopt;
    const double frames = static_cast<double>(end - begin);
    if (frames * line.rate < kLeastPeriods || frames < kLeastPieceS * rate_hz_) return std::nullopt;
    TonePiece piece;
    piece.steady_first = begin;
    piece.steady_end = end;
    piece.cycles_per_frame = line.rate;
    piece.amplitude = line.amplitude;
    piece.phase_cycles = line.phase - line.rate * line.middle;  // at frame 0 until the ends are known
    piece.wander = wander_;
    stretch_out(piece, from, to);
    settle(piece);
    return piece;
  }

  [[nodiscard]] Look seen(double rate, std::int64_t at, std::int64_t block) const {
    return {static_cast<double>(at) + 0.5 * static_cast<double>(block - 1), look(rate, at, block)};
  }

  struct Line {
    double rate = 0, middle = 0, phase = 0, amplitude = 0;
    [[nodiscard]] Complex at(double n) const {
      return std::polar(amplitude, 2 * std::numbers::pi * (phase + rate * (n - middle)));
    }
  };
  // Least squares through the phases beside a rate.
  [[nodiscard]] static Line line_of(const std::vector<Look>& looks, double rate) {
    Line line{rate, 0, 0, 0};
    const auto count = static_cast<double>(looks.size());
    for (const Look& l : looks) line.middle += l.at / count;
    double last = 0, sum = 0, slope = 0, squares = 0;
    bool any = false;
    const double start = std::arg(looks.front().amplitude) / (2 * std::numbers::pi);
    for (const Look& l : looks) {
      double beside =
          std::arg(l.amplitude) / (2 * std::numbers::pi) - start - rate * (l.at - looks.front().at);
      beside -= std::round(beside - last);
      if (!any) beside -= std::round(beside);
      any = true;
      last = beside;
      sum += beside / count;
      slope += beside * (l.at - line.middle);
      squares += (l.at - line.middle) * (l.at - line.middle);
      line.amplitude += std::abs(l.amplitude) / count;
    }
    if (squares > 0) line.rate += slope / squares;
    line.phase = start + rate * (line.middle - looks.front().at) + sum;
    return line;
  }
  [[nodiscard]] bool agree(const std::vector<Look>& looks, const Line& line, double most) {
    wander_ = 0;
    for (const Look& l : looks) wander_ = std::max(wander_, std::abs(l.amplitude / line.at(l.at) - 1.0));
    return wander_ < most;
  }

  [[nodiscard]] Sine sine_of(const TonePiece& p) const {
    return {p.cycles_per_frame, 0, p.phase_cycles, p.amplitude};
  }

  // From within the steady part to where the samples leave the tone.
  void stretch_out(TonePiece& piece, std::int64_t from, std::int64_t to) const {
    const Sine sine = sine_of(piece);
    const std::int64_t block = block_of(piece.cycles_per_frame);
    const auto half = std::max<std::int64_t>(3, std::llround(0.5 / piece.cycles_per_frame));
    const double allowed = std::max(kStrays * piece.amplitude, kOverNoise * noise_) + overtones(piece);
    const auto strays = [&](std::int64_t n) {
      return std::abs(x_[static_cast<std::size_t>(n)] - sine(static_cast<double>(n))) > allowed;
    };
    const auto leaves = [&](std::int64_t n, std::int64_t way) {
      std::int64_t count = 0, seen = 0;
      for (std::int64_t k = 0; k < half; ++k) {
        const std::int64_t m = n + way * k;
        if (m < from || m >= to) break;
        ++seen;
        count += strays(m);
      }
      return seen > 0 && static_cast<double>(count) > kMostStraying * static_cast<double>(seen);
    };
    std::int64_t end = std::max(piece.steady_first + 1, piece.steady_end - block / 2);
    while (end < to && !(strays(end) && leaves(end, 1))) ++end;
    std::int64_t first = std::min(piece.steady_end - 1, piece.steady_first + block / 2) - 1;
    while (first >= from && !(strays(first) && leaves(first, -1))) --first;
    piece.steady_first = first + 1;
    piece.steady_end = end;
    piece.first = piece.steady_first;
    piece.end = piece.steady_end;
  }

  // Once the ends are known: what a fade or a joint reaches into is left out.
  void settle(TonePiece& piece) {
    const std::int64_t block = block_of(piece.cycles_per_frame), hop = std::max<std::int64_t>(1, block / 2),
                       frames = piece.steady_end - piece.steady_first;
    const std::int64_t margin = std::min(block, std::max<std::int64_t>(0, (frames - 2 * block) / 2));
    std::vector<Look> looks;
    for (std::int64_t at = piece.steady_first + margin; at + block <= piece.steady_end - margin; at += hop)
      looks.push_back(seen(piece.cycles_per_frame, at, block));
    if (looks.size() < 2) return;
    const Line line = line_of(looks, piece.cycles_per_frame);
    if (!agree(looks, line, kMostWander)) return;
    piece.cycles_per_frame = line.rate;
    piece.amplitude = line.amplitude;
    piece.phase_cycles = line.phase - line.rate * line.middle;
    piece.wander = wander_;
  }

  // Peak of what the steady part holds beside its sine.
  [[nodiscard]] double overtones(const TonePiece& piece) const {
    const Sine sine = sine_of(piece);
    const std::int64_t middle = (piece.steady_first + piece.steady_end) / 2,
                       around = std::min<std::int64_t>((piece.steady_end - piece.steady_first) / 4,
                                                       std::llround(4 / piece.cycles_per_frame));
    double peak = 0;
    for (std::int64_t n = middle - around; n < middle + around; ++n)
      peak = std::max(peak, std::abs(x_[static_cast<std::size_t>(n)] - sine(static_cast<double>(n))));
    return peak;
  }

  // Where two tones meet, and how those that meet nothing begin and end.
  void join() {
    const auto size = static_cast<std::int64_t>(x_.size());
    for (std::size_t i = 0; i <= pieces_.size(); ++i) {
      TonePiece* before = i > 0 ? &pieces_[i - 1] : nullptr;
      TonePiece* after = i < pieces_.size() ? &pieces_[i] : nullptr;
      const std::int64_t left = before != nullptr ? before->steady_end : 0,
                         right = after != nullptr ? after->steady_first : size;
      const auto longest = static_cast<std::int64_t>(kLongestFadeS * rate_hz_);
      if (before != nullptr && after != nullptr) {
        if (right - left > 2 * longest) continue;
        meet(*before, *after, left, right);
      } else if (right - left <= longest) {
        // A fade, or what of half a period cannot be told from a cut.
        if (before != nullptr) {
          fade_to(*before, size);
          carry_on(*before, 1, static_cast<double>(right - left));
        }
        if (after != nullptr) {
          fade_from(*after, 0);
          carry_on(*after, -1, static_cast<double>(right - left));
        }
      }
    }
    for (TonePiece& piece : pieces_)
      piece.phase_cycles += piece.cycles_per_frame * static_cast<double>(piece.first);
  }

  // How far x strays from a faded sine: a raised cosine of that length at one end.
  [[nodiscard]] double stray_of_fade(const Sine& sine, std::int64_t from, std::int64_t to, std::int64_t edge,
                                     double fade, int way) const {
    double sum = 0;
    for (std::int64_t n = from; n < to; ++n) {
      const double inside = static_cast<double>(way * (edge - n)) - 0.5 * (1 - way);
      const double part = std::clamp((inside + 0.0) / fade, 0.0, 1.0),
                   gain = 0.5 - 0.5 * std::cos(std::numbers::pi * part),
                   off = x_[static_cast<std::size_t>(n)] - gain * sine(static_cast<double>(n));
      sum += off * off;
    }
    return sum;
  }
  // The length of a fade that is least strayed from, near what is seen of it.
  [[nodiscard]] double fade_length(const TonePiece& piece, std::int64_t edge, double seen, int way) const {
    if (seen * piece.cycles_per_frame <= 0.5 || seen <= 2) return 0;
    const Sine sine = sine_of(piece);
    const auto reach = static_cast<std::int64_t>(1.3 * seen);
    const std::int64_t from = std::max(piece.steady_first, way > 0 ? edge - reach : edge),
                       to = std::min(std::max(piece.steady_end, edge), way > 0 ? edge : edge + reach);
    double best = 1e300, length = seen / kSeenOfFade;
    for (double fade = 0.8 * seen; fade <= 1.3 * seen; fade += std::max(0.5, 0.01 * seen))
      if (const double sum = stray_of_fade(sine, std::min(from, way > 0 ? from : edge), to, edge, fade, way);
          sum < best) {
        best = sum;
        length = fade;
      }
    return length;
  }
  // Where a fade at the island's end really ends: a soft one sinks into the noise before that.
  void carry_on(TonePiece& piece, int way, double seen) const {
    if (seen * piece.cycles_per_frame <= 1 || seen <= 4) return;
    const Sine sine = sine_of(piece);
    const auto size = static_cast<std::int64_t>(x_.size());
    const std::int64_t inside = way > 0 ? size - piece.steady_first : piece.steady_end,
                       count = std::min(inside, static_cast<std::int64_t>(1.4 * seen) + 4);
    std::vector<double> own, tone;
    for (std::int64_t k = 0; k < count; ++k) {
      const std::int64_t n = way > 0 ? size - 1 - k : k;
      own.push_back(x_[static_cast<std::size_t>(n)]);
      tone.push_back(sine(static_cast<double>(n)));
    }
    const auto fitted = fit_fade(own, tone, seen);
    if (!fitted || fitted->stray > kFittedStray * piece.amplitude + noise_ + overtones(piece)) return;
    if (fitted->edge < -kMostOutside * fitted->frames || fitted->edge > 0.1 * fitted->frames) return;
    const std::int64_t edge =
        std::max<std::int64_t>(std::llround(fitted->edge), -(way > 0 ? room_after_ : room_before_));
    if (way > 0)
      piece.end = size - edge;
    else
      piece.first = edge;
    if (!fitted->raised_cosine) return;
    (way > 0 ? piece.fade_out_frames : piece.fade_in_frames) = fitted->frames;
  }
  void fade_to(TonePiece& piece, std::int64_t end) const {
    piece.end = end;
    piece.fade_out_frames = fade_length(piece, end, static_cast<double>(end - piece.steady_end), 1);
  }
  void fade_from(TonePiece& piece, std::int64_t first) const {
    piece.first = first;
    piece.fade_in_frames = fade_length(piece, first, static_cast<double>(piece.steady_first - first), -1);
  }

  // The place between two faded tones from which each is least strayed from.
  [[nodiscard]] std::int64_t dip(const TonePiece& before, const TonePiece& after) const {
    const Sine p = sine_of(before), q = sine_of(after);
    const std::int64_t left = before.steady_end, right = after.steady_first;
    const auto stray = [&](std::int64_t n) {
      const double out = static_cast<double>(n - left) / kSeenOfFade,
                   in = static_cast<double>(right - n) / kSeenOfFade;
      return stray_of_fade(p, left, n, n, std::max(1.0, out), 1) +
             stray_of_fade(q, n, right, n, std::max(1.0, in), -1);
    };
    std::int64_t low = left + 1, high = right - 1, best = (left + right) / 2;
    for (std::int64_t step = std::max<std::int64_t>(1, (right - left) / 32);;
         step = std::max<std::int64_t>(1, step / 8)) {
      double least = 1e300;
      for (std::int64_t n = low; n <= high; n += step)
        if (const double sum = stray(n); sum < least) {
          least = sum;
          best = n;
        }
      if (step == 1) return best;
      low = std::max(left + 1, best - step);
      high = std::min(right - 1, best + step);
    }
  }

  void meet(TonePiece& before, TonePiece& after, std::int64_t left, std::int64_t right) const {
    // A dip between them: both are faded, or there is a short pause.
    const auto window = std::max<std::int64_t>(
        2, std::llround(0.5 / std::max(before.cycles_per_frame, after.cycles_per_frame)));
    bool dips = false;
    const double least = kDip * std::min(before.amplitude, after.amplitude);
    for (std::int64_t n = left; n + window <= right; n += std::max<std::int64_t>(1, window / 4)) {
      const double peak = peak_of(x_.subspan(static_cast<std::size_t>(n), static_cast<std::size_t>(window)));
      dips |= peak < least;
    }
    if (dips) {
      const std::int64_t lowest = dip(before, after);
      fade_to(before, lowest);
      fade_from(after, lowest);
      return;
    }
    const Sine p = sine_of(before), q = sine_of(after);
    const std::int64_t reach = std::llround(1 / std::min(before.cycles_per_frame, after.cycles_per_frame)),
                       low = std::max(before.steady_first + 1, std::min(left, right) - reach),
                       high = std::min(after.steady_end - 1, std::max(left, right) + reach);
    double sum = 0, best = 0;
    std::int64_t joint = low;
    for (std::int64_t n = low; n < high; ++n) {
      const double v = x_[static_cast<std::size_t>(n)], t = static_cast<double>(n);
      sum += (v - p(t)) * (v - p(t)) - (v - q(t)) * (v - q(t));
      if (sum < best) {
        best = sum;
        joint = n + 1;
      }
    }
    before.end = before.steady_end = joint;
    after.first = after.steady_first = joint;
  }

  std::span<const double> x_;
  double rate_hz_, noise_;
  std::int64_t room_before_, room_after_;
  double wander_ = 0;
  std::vector<TonePiece> pieces_;
  RealTransforms transforms_;
  KaiserWindows windows_;
  std::map<std::size_t, std::vector<double>> fades_;
};

}  // namespace

std::vector<TonePiece> tone_pieces(std::span<const double> x, double sample_rate_hz, double noise_rms,
                                   std::int64_t room_before, std::int64_t room_after) {
  return Grower(x, sample_rate_hz, noise_rms, room_before, room_after).run();
}

}  // namespace wavicon::intake_detail
