// SPDX-License-Identifier: MIT
#pragma once
// B on A's frames: placed, levelled and, when asked for, with its linear response matched. Internal to
// `measure`.

#include <algorithm>
#include <complex>
#include <optional>
#include <vector>

#include "measure/common/frame_range.hpp"
#include "wavicon/audio/filtered.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::measure_detail {

/// Which channel of A goes with which one of B.
struct ChannelPair {
  int a = 0;
  int b = 0;
};

/// Reads all paired channels of B where A's frames lie, at A's level.
class AlignedReader {
 public:
  AlignedReader(AudioSource& b, std::vector<ChannelPair> pairs, const Alignment& alignment, bool whole);

  /// Amplitude of B over A, with its sign; 1 until set.
  void set_gain(std::size_t pair, double gain) { gains_[pair] = gain; }
  [[nodiscard]] double gain(std::size_t pair) const { return gains_[pair]; }
  [[nodiscard]] std::size_t pair_count() const { return pairs_.size(); }
  /// A filter over aligned B, its middle tap at the same frame; empty: none.
  void set_filter(std::size_t pair, std::span<const double> filter);

  /// B along A's frames first … , a run for each pair. What lies outside is silence.
  void read(std::int64_t first_frame, std::span<double> planar);
  /// The samples of B that the last read() looked at, as they are, one channel after the other.
  [[nodiscard]] std::span<const double> raw() const { return raw_; }

 private:
  void read_plain(std::int64_t first_frame, std::span<double> planar);

  AudioSource& b_;
  std::vector<ChannelPair> pairs_;
  Alignment alignment_;
  bool whole_;
  std::vector<double> gains_;
  std::vector<std::optional<Convolver>> filters_;
  std::size_t reach_ = 0;  // of the longest filter
  FractionalReader reader_;
  std::vector<double> raw_, wide_;
};

/// Calls each(a planar, b planar, count) for up to `most` segments spread evenly over a stretch of A; B has
/// `margin` frames more on both sides.
template <typename Each>
void for_segments(AudioSource& a, AlignedReader& aligned, const FrameRange& stretch, std::int64_t length,
                  std::int64_t margin, std::int64_t most, Each&& each) {
  length = std::min(length, stretch.frames());
  const std::int64_t count = std::clamp<std::int64_t>(stretch.frames() / length, 1, most);
  std::vector<double> x(static_cast<std::size_t>(length) * static_cast<std::size_t>(a.channel_count())),
      y(static_cast<std::size_t>(length + 2 * margin) * aligned.pair_count());
  for (std::int64_t i = 0; i < count; ++i) {
    const std::int64_t first =
        stretch.first + (count == 1 ? 0 : i * (stretch.frames() - length) / (count - 1));
    a.read(first, x);
    aligned.read(first - margin, y);
    each(std::span<const double>(x), std::span<const double>(y), static_cast<std::size_t>(length), first);
  }
}

inline constexpr double kWholeFrame = 0.002;         ///< so near to a whole frame counts as one
inline constexpr std::int64_t kGainSegment = 16384;  // frames
inline constexpr std::int64_t kGainSegments = 64;    // spread over the whole
inline constexpr double kCutAt =
    0.42;  ///< of the rate: what is compared when reading between samples loses what matters

/// Spectra of segments, as far as reading between samples passes them.
class SegmentSpectra {
 public:
  std::vector<std::complex<double>> operator()(std::span<const double> samples) {
    return transforms_.get(fast_transform_length(samples.size())).bins_of(samples);
  }
  [[nodiscard]] std::size_t passed(std::size_t bins) const {
    return static_cast<std::size_t>(2 * kCutAt * static_cast<double>(bins));
  }

 private:
  RealTransforms transforms_;
};

/// An alignment that was found, and whether it lies at whole frames without drift.
struct Settled {
  Alignment alignment;
  bool whole = false;
};

/// Brings a found alignment to the least residual over all segments, and takes the simpler one where it
/// leaves as little: an equaliser pulls at delay and drift. Drops a drift below 2 ppm, and a fraction of a
/// frame where the main tap of the filter that lies between A and B is at a whole one.
///
/// @param stretch     frames of A that B holds as well. @param fixed_delay, fixed_drift  were given and stay.
[[nodiscard]] Settled settle(AudioSource& a, AudioSource& b, const ChannelPair& pair, const Alignment& found,
                             const FrameRange& stretch, bool fixed_delay, bool fixed_drift);

/// The filter of `taps` over y that leaves the least of x, by the normal equations over the stretches that
/// were added.
class ResponseMatch {
 public:
  explicit ResponseMatch(std::size_t taps);
  /// @param x  frames of A. @param y  aligned B over the same frames and taps more on both sides.
  void add(std::span<const double> x, std::span<const double> y);
  /// Taps; the middle one belongs to the same frame.
  [[nodiscard]] std::vector<double> solve() const;

 private:
  std::size_t taps_;
  std::vector<double> own_, both_;  // lower triangle and right side of the normal equations
  RealTransforms transforms_;
};

/// Linear-phase low-pass that passes up to 0.40 of the rate and stops from 0.46 on (100 dB).
class TopCut {
 public:
  TopCut();
  /// Frames that it needs on both sides.
  [[nodiscard]] std::size_t reach() const { return taps_.size() / 2; }
  /// @param in  out.size() + 2·reach() frames.
  void apply(std::span<const double> in, std::span<double> out) const;

 private:
  std::vector<double> taps_;
};

}  // namespace wavicon::measure_detail
