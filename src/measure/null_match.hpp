#pragma once
// B on A's frames: placed, levelled and, when asked for, with its linear response matched. Internal to
// `measure`.

#include <complex>
#include <memory>
#include <vector>

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
  void set_filter(std::size_t pair, std::vector<double> filter);

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
  std::vector<std::vector<double>> filters_;
  std::size_t reach_ = 0;  // of the longest filter
  FractionalReader reader_;
  std::vector<double> raw_, wide_;
  RealTransforms transforms_;
};

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
