// SPDX-License-Identifier: MIT
#include "curve_timing.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

#include "audio/wide.hpp"
#include "samples.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr int kShortCurve = 16;       // pieces of a hit's curve, over the reference's peak to peak
constexpr int kLongCurve = 64;        // of one that many values tell
constexpr double kRidge = 1e-9;       // of the largest diagonal: values that hardly occur have no say
constexpr double kBeside = 0.05;      // frames to either side, for the slope
constexpr double kLongestStep = 0.5;  // frames
constexpr int kSteps = 20;            // it settles in four to eight
constexpr double kHeadroom = 1.02;    // over the peak: between its frames it may be higher
constexpr std::int64_t kPiecesOver = 64, kPieceLength = 256;  // frames: of a long stretch
constexpr double kBetweenStarts[] = {-0.8, -0.4, 0.4, 0.8};   // frames
constexpr double kStill = 1e-6;                               // frames
constexpr double kFarthest = 12;       // frames in 48 kHz by which likeness may have been pulled
constexpr double kPlainlyLess = 0.25;  // of what a straight line leaves: 6 dB
constexpr double kWorthAClimb = 0.8;   // of what a straight line leaves
constexpr std::size_t kFewValues = 2000;
constexpr std::int64_t kBlock = 512;       // frames in which a curve has to hold
constexpr double kSounds = 1e-5;           // of the loudest block's power
constexpr double kMostOff = 0.02;          // of a block's power, beside …
constexpr double kTimesNoise = 10;         // … times the noise
constexpr double kProven = 3e-3;           // -25 dB
constexpr double kPlainlyLog = 0.7;        // of the mean logarithm: half of it
constexpr double kNothingLeft = 1e-12;     // less is rounding
constexpr double kNextToNothing = 0.01;    // of the peak
constexpr std::size_t kLeastValues = 400;  // a curve of 19 splines goes through any few
constexpr double kExplains = 0.02;         // of the capture's power left: -17 dB

constexpr std::size_t kWidest = 4;  // splines, or unknowns of a line, that a value has a say in

// What values add to each of the splines around them: the first of them, and the weights of four.
struct Weights {
  explicit Weights(std::size_t count) : first(count) {
    for (auto& weights : of) weights.resize(count);
  }
  std::vector<std::int32_t> first;
  std::array<std::vector<double>, kWidest> of;
};

WAVICON_WIDE void fill_splines(const double* values, std::size_t count, double peak, int pieces,
                               std::int32_t* first, double* w0, double* w1, double* w2, double* w3) {
  for (std::size_t n = 0; n < count; ++n) {
    double share = (values[n] / peak + 1) / 2;
    share = share > 0.0 ? share : 0.0;
    share = share < 1.0 ? share : 1.0;
    const double place = share * pieces;
    const int below = static_cast<int>(place), piece = below < pieces - 1 ? below : pieces - 1;
    const double t = place - piece, u = 1 - t;
    first[n] = piece;
    w0[n] = u * u * u / 6;
    w1[n] = (3 * t * t * t - 6 * t * t + 4) / 6;
    w2[n] = (3 * u * u * u - 6 * u * u + 4) / 6;
    w3[n] = t * t * t / 6;
  }
}

template <int kPieces>
struct Splines {
  static constexpr int kUnknowns = kPieces + 3;
  static void fill(std::span<const double> values, double peak, Weights& out) {
    fill_splines(values.data(), values.size(), peak, kPieces, out.first.data(), out.of[0].data(),
                 out.of[1].data(), out.of[2].data(), out.of[3].data());
  }
};

struct Line {
  static constexpr int kUnknowns = 2;
  static void fill(std::span<const double> values, double peak, Weights& out) {
    for (std::size_t n = 0; n < values.size(); ++n) {
      out.of[0][n] = 1;
      out.of[1][n] = values[n] / peak;
    }
  }
};

// A stretch of both: the reference with a margin on either side.
struct Piece {
  std::vector<double> x, y;
  std::span<const double> window;
};

// What is read of the reference at one delay, of all pieces one after the other.
using Values = std::vector<double>;

// One kind of curve, fitted at any delay.
template <typename Kind>
class Curve {
 public:
  Curve(const std::vector<Piece>& pieces, std::ptrdiff_t margin) : pieces_(pieces), margin_(margin) {
    for (const Piece& piece : pieces) {
      for (const double v : piece.x) peak_ = std::max(peak_, kHeadroom * std::abs(v));
      y_.insert(y_.end(), piece.y.begin(), piece.y.end());
      window_.insert(window_.end(), piece.window.begin(), piece.window.end());
    }
  }

  struct Fitted {
    double delay = 0, left = 0, sigma = 0;
    std::vector<double> of_pieces;
  };

  // What a curve leaves at one delay.
  [[nodiscard]] double left_at(double delay) {
    const Weights at = read(delay);
    fit(at);
    double left = 0;
    for (std::size_t n = 0; n < y_.size(); ++n) {
      const double off = y_[n] - value_of(curve_, at, n);
      left += window_[n] * off * off;
    }
    return left;
  }

  // @param delay  of the capture's stretches after the reference's.
  std::optional<Fitted> climb(double delay, double farthest) {
    const double start = delay;
    double left = 0, sigma = 0, limit = kLongestStep, last = 0;
    Values off(y_.size()), slope(y_.size());
    for (int step = 0; step < kSteps; ++step) {
      const Weights here = read(delay), before = read(delay - kBeside), after = read(delay + kBeside);
      fit(here);
      for (std::size_t n = 0; n < y_.size(); ++n) {
        slope[n] = (value_of(curve_, after, n) - value_of(curve_, before, n)) / (2 * kBeside);
        off[n] = y_[n] - value_of(curve_, here, n);
      }
      left = weighed(off, off);
      take_off_what_the_curve_takes(here, slope);
      const double along = weighed(off, slope), steep = weighed(slope, slope);
      if (!(steep > 0)) return std::nullopt;
      sigma = std::sqrt(left / (steep * std::max(1.0, static_cast<double>(y_.size()) - kUnknowns)));
      double move = along / steep;
      if (move * last < 0) limit /= 2;
      move = std::clamp(move, -limit, limit);
      last = move;
      delay += move;
      if (std::abs(delay - start) > farthest) return std::nullopt;
      if (std::abs(move) < kStill) break;
    }
    return Fitted{delay, left, sigma, of_pieces(off)};
  }

  // What the curve, as it was fitted last, leaves of another piece, and that piece's power.
  [[nodiscard]] std::pair<double, double> off_of(const Piece& piece, double delay) const {
    Values x(piece.y.size());
    reader_.read(piece.x, static_cast<double>(margin_) - delay, 1, x);
    Weights at(x.size());
    Kind::fill(x, peak_, at);
    double off = 0, power = 0;
    for (std::size_t n = 0; n < x.size(); ++n) {
      const double left = piece.y[n] - value_of(curve_, at, n);
      off += left * left;
      power += piece.y[n] * piece.y[n];
    }
    return {off, power};
  }

  // Values that are not next to nothing.
  [[nodiscard]] std::size_t loud() const {
    std::size_t count = 0;
    for (const Piece& piece : pieces_)
      for (const double v : piece.x) count += std::abs(v) > kNextToNothing * peak_;
    return count;
  }
  [[nodiscard]] double power() const { return weighed(y_, y_); }

 private:
  // Share of each piece's power that is off.
  [[nodiscard]] std::vector<double> of_pieces(const Values& off) const {
    std::vector<double> shares;
    std::size_t at = 0;
    for (const Piece& piece : pieces_) {
      double left = 0, power = 0;
      for (std::size_t n = 0; n < piece.y.size(); ++n) {
        left += off[at + n] * off[at + n];
        power += piece.y[n] * piece.y[n];
      }
      at += piece.y.size();
      shares.push_back(power > 0 ? left / power : 1);
    }
    return shares;
  }
  [[nodiscard]] double weighed(const Values& p, const Values& q) const {
    double sum = 0;
    for (std::size_t n = 0; n < p.size(); ++n) sum += window_[n] * p[n] * q[n];
    return sum;
  }
  // What the values of the reference at a delay add to the curve.
  [[nodiscard]] Weights read(double delay) const {
    Values all(y_.size());
    std::size_t at = 0;
    for (const Piece& piece : pieces_) {
      reader_.read(piece.x, static_cast<double>(margin_) - delay, 1,
                   std::span(all).subspan(at, piece.y.size()));
      at += piece.y.size();
    }
    Weights weights(all.size());
    Kind::fill(all, peak_, weights);
    return weights;
  }
  void fit(const Weights& at) {
    std::vector<double> matrix(kUnknowns * kUnknowns, 0.0);
    for (std::size_t n = 0; n < y_.size(); ++n) {
      double* corner = matrix.data() + static_cast<std::size_t>(at.first[n]) * (kUnknowns + 1);
      for (std::size_t i = 0; i < kWide; ++i)
        for (std::size_t k = 0; k <= i; ++k)
          corner[i * kUnknowns + k] += window_[n] * at.of[i][n] * at.of[k][n];
    }
    double largest = 0;
    for (int i = 0; i < kUnknowns; ++i)
      largest = std::max(largest, matrix[static_cast<std::size_t>(i * kUnknowns + i)]);
    for (int i = 0; i < kUnknowns; ++i)
      matrix[static_cast<std::size_t>(i * kUnknowns + i)] += kRidge * largest;
    system_.emplace(matrix, kUnknowns);
    curve_ = solved(at, y_);
  }
  [[nodiscard]] std::vector<double> solved(const Weights& at, const Values& y) const {
    std::vector<double> right(kUnknowns, 0.0);
    for (std::size_t n = 0; n < y.size(); ++n) {
      double* first = right.data() + at.first[n];
      for (std::size_t i = 0; i < kWide; ++i) first[i] += window_[n] * at.of[i][n] * y[n];
    }
    return system_->solve(right);
  }
  [[nodiscard]] static double value_of(const std::vector<double>& curve, const Weights& at, std::size_t n) {
    const double* first = curve.data() + at.first[n];
    double sum = 0;
    for (std::size_t i = 0; i < kWide; ++i) sum += first[i] * at.of[i][n];
    return sum;
  }
  // What another curve explains of the slope says nothing of time.
  void take_off_what_the_curve_takes(const Weights& at, Values& slope) const {
    const std::vector<double> other = solved(at, slope);
    for (std::size_t n = 0; n < slope.size(); ++n) slope[n] -= value_of(other, at, n);
  }

  static constexpr int kUnknowns = Kind::kUnknowns;
  static constexpr std::size_t kWide = std::min<std::size_t>(kWidest, kUnknowns);
  const std::vector<Piece>& pieces_;
  std::ptrdiff_t margin_;
  Values y_, window_;
  double peak_ = 1e-300;
  FractionalReader reader_;
  std::optional<SymmetricSystem> system_;
  std::vector<double> curve_;
};

double farthest_at(double sample_rate_hz) { return kFarthest * std::max(1.0, sample_rate_hz / 48000); }

std::int64_t margin_at(double sample_rate_hz) {
  return static_cast<std::int64_t>(FractionalReader::kReach + farthest_at(sample_rate_hz) + 2);
}

// Splines of so many pieces.
template <int kPieces>
std::optional<CurveTiming> timed(const std::vector<Piece>& pieces, double rate, double delay_frames,
                                 std::span<const double> beside) {
  const double farthest = farthest_at(rate), late = std::round(delay_frames), start = delay_frames - late;
  Curve<Line> line(pieces, margin_at(rate));
  Curve<Splines<kPieces>> curve(pieces, margin_at(rate));
  const double all = curve.power();
  if (!(all > 0)) return std::nullopt;
  // What is straight but for noise is as straight a little beside its place.
  if (curve.left_at(start) > kWorthAClimb * line.left_at(start)) return std::nullopt;
  const auto straight = line.climb(start, farthest);
  if (!straight) return std::nullopt;
  auto bent = curve.climb(straight->delay, farthest);
  // Few values bend many ways: from more than one start, the best.
  if (curve.loud() < kFewValues)
    for (const double from : beside) {
      auto other = curve.climb(straight->delay + from, farthest);
      if (other && (!bent || other->left < bent->left)) bent = std::move(other);
    }
  if (!bent) return std::nullopt;
  return CurveTiming{bent->delay + late,   bent->sigma,  bent->left / all,
                     straight->left / all, curve.loud(), std::move(bent->of_pieces)};
}

Piece piece_at(AudioSource& reference, int reference_channel, std::int64_t first,
               std::span<const double> window, AudioSource& capture, int capture_channel,
               double delay_frames) {
  const std::int64_t margin = margin_at(reference.sample_rate_hz());
  const auto length = static_cast<std::int64_t>(window.size());
  return {read_channel(reference, reference_channel, first - margin, length + 2 * margin),
          read_channel(capture, capture_channel, first + std::llround(delay_frames), length), window};
}

}  // namespace

std::optional<CurveTiming> time_by_curve(AudioSource& reference, int reference_channel,
                                         std::int64_t first_frame, std::span<const double> window,
                                         AudioSource& capture, int capture_channel, double delay_frames) {
  return timed<kShortCurve>(
      {piece_at(reference, reference_channel, first_frame, window, capture, capture_channel, delay_frames)},
      reference.sample_rate_hz(), delay_frames, kBetweenStarts);
}

namespace {

// Spread over a stretch; the window has to outlive them.
std::vector<Piece> pieces_over(AudioSource& reference, int reference_channel, std::int64_t first,
                               std::int64_t end, AudioSource& capture, int capture_channel,
                               double delay_frames, const std::vector<double>& window) {
  const std::int64_t room = end - first - static_cast<std::int64_t>(window.size());
  std::vector<Piece> pieces;
  for (std::int64_t i = 0; room >= 0 && i < kPiecesOver; ++i)
    pieces.push_back(piece_at(reference, reference_channel, first + i * room / (kPiecesOver - 1), window,
                              capture, capture_channel, delay_frames));
  return pieces;
}

std::vector<double> piece_window(std::int64_t frames) {
  return std::vector<double>(
      static_cast<std::size_t>(std::clamp<std::int64_t>(frames / kPiecesOver, 64, kPieceLength)), 1.0);
}

}  // namespace

std::vector<CurveTiming> time_by_curves_over(KeptChannel& reference, std::int64_t first, std::int64_t end,
                                             KeptChannel& capture, const std::vector<double>& delays) {
  const std::vector<double> window = piece_window(end - first);
  std::vector<std::optional<CurveTiming>> curves(delays.size());
  for_each_part(delays.size(), [&](std::size_t i) {
    const auto pieces = pieces_over(reference, 0, first, end, capture, 0, delays[i], window);
    if (!pieces.empty()) curves[i] = timed<kLongCurve>(pieces, reference.sample_rate_hz(), delays[i], {});
  });
  std::vector<CurveTiming> found;
  for (auto& curve : curves)
    if (curve) found.push_back(std::move(*curve));
  return found;
}

bool holds_everywhere(AudioSource& reference, int reference_channel, std::int64_t first, std::int64_t end,
                      AudioSource& capture, int capture_channel, double delay_frames) {
  const std::vector<double> window = piece_window(end - first), block(kBlock, 1.0);
  const double rate = reference.sample_rate_hz(), beside = delay_frames - std::round(delay_frames);
  const auto pieces =
      pieces_over(reference, reference_channel, first, end, capture, capture_channel, delay_frames, window);
  if (pieces.empty()) return false;
  Curve<Splines<kLongCurve>> curve(pieces, margin_at(rate));
  (void)curve.left_at(beside);
  std::vector<std::pair<double, double>> blocks;  // what is off, of what power
  std::vector<double> offs;
  double loudest = 0;
  for (std::int64_t at = first; at + kBlock <= end; at += kBlock) {
    const Piece here =
        piece_at(reference, reference_channel, at, block, capture, capture_channel, delay_frames);
    blocks.push_back(curve.off_of(here, beside));
    offs.push_back(blocks.back().first);
    loudest = std::max(loudest, blocks.back().second);
  }
  if (blocks.empty()) return false;
  // Noise is what the quietest tenth of them leaves.
  const auto tenth = offs.begin() + static_cast<std::ptrdiff_t>(offs.size() / 10);
  std::nth_element(offs.begin(), tenth, offs.end());
  return std::none_of(blocks.begin(), blocks.end(), [&](const auto& one) {
    return one.second > kSounds * loudest && one.first > kMostOff * one.second + kTimesNoise * *tenth;
  });
}

const CurveTiming* proven_curve(std::span<const CurveTiming> places) {
  const auto mean_log = [](const CurveTiming& one) {
    double sum = 0;
    for (const double left : one.left_of_pieces) sum += std::log(std::max(left, kNothingLeft));
    return sum / static_cast<double>(one.left_of_pieces.size());
  };
  const auto best = std::min_element(places.begin(), places.end(),
                                     [&](const auto& p, const auto& q) { return mean_log(p) < mean_log(q); });
  if (best == places.end() || best->left > kProven || best->values < kLeastValues) return nullptr;
  for (const CurveTiming& other : places)
    if (std::abs(other.delay_frames - best->delay_frames) >= 1 &&
        mean_log(other) - mean_log(*best) < kPlainlyLog)
      return nullptr;
  return &*best;
}

bool is_bent(const CurveTiming& timing) noexcept {
  return timing.left < kPlainlyLess * timing.left_straight && timing.left < kExplains;
}

}  // namespace wavicon::intake_detail
