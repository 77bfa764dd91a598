// SPDX-License-Identifier: MIT
#pragma once
// Segments of a reference read where they lie in a capture: how late each is, how alike. Internal to
// `intake`.

#include <cstdint>
#include <map>
#include <optional>
#include <span>
#include <vector>

#include "delay_line.hpp"
#include "segment_delay.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

/// Works on as many threads as are allowed, all of which read both sources.
class SegmentTimer {
 public:
  SegmentTimer(AudioSource& reference, AudioSource& capture, const AlignOptions& channels,
               std::int64_t segment_frames);

  /// What is left of each segment's delay once the capture is read where the segment was found, at that pace.
  /// @param segments  each begins elsewhere.
  void refine(std::vector<Segment>& segments, double slope);
  /// Correlation of a segment with what lies along the line, 0 … 1.
  [[nodiscard]] double alike(const Segment& segment, const Line& line);
  /// What of the segments' power is not what lies along the line; 1 for none.
  [[nodiscard]] double left_over(const std::vector<Segment>& segments, const Line& line);
  /// Power of the capture less gain times the reference, over that of the latter; at most 2, none where the
  /// reference is silent.
  [[nodiscard]] std::optional<double> off(const Segment& segment, const Line& line, double gain);
  /// How a segment lies along the line; none where the reference is silent.
  struct Likeness {
    double power = 0;  ///< of the segment, Σx²
    double gain = 0;   ///< Σxy/Σx²
    double alike = 0;  ///< correlation, 0 … 1
  };
  [[nodiscard]] std::optional<Likeness> likeness(std::int64_t first, const Line& line);
  /// The same of one after the other, each along its own line.
  [[nodiscard]] std::vector<std::optional<Likeness>> likenesses(std::span<const std::int64_t> firsts,
                                                                std::span<const Line> lines);
  /// alike() of all of them.
  [[nodiscard]] std::vector<double> alike(const std::vector<Segment>& segments, const Line& line);
  /// Σxy/Σxx over the segments.
  [[nodiscard]] double gain(const std::vector<Segment>& segments, const Alignment& along);
  /// The same into an alignment, with how far it is sure.
  void take_gain(const std::vector<Segment>& segments, Alignment& along);

 private:
  // What one thread works with.
  struct Hand {
    SegmentDelays timing;
    FractionalReader reader;
    std::vector<double> y;  // the capture under one segment
  };
  // Calls work(i, segment, capture under it, hand) for each, on as many threads as are allowed.
  template <typename FirstOf, typename AlongOf, typename Work>
  void for_each_segment(std::size_t count, FirstOf&& first_of, AlongOf&& along_of, Work&& work);

  AudioSource& a_;
  AudioSource& b_;
  int channel_a_, channel_b_;
  std::size_t length_;
  std::vector<Hand> hands_;
  // Of segments of the reference, by their first frames.
  std::map<std::int64_t, SegmentDelays::Spectrum> own_;
};

}  // namespace wavicon::intake_detail
