// SPDX-License-Identifier: MIT
#pragma once
// Segments of a reference read where they lie in a capture: how late each is, how alike. Internal to
// `intake`.

#include <cstdint>
#include <map>
#include <optional>
#include <vector>

#include "delay_line.hpp"
#include "segment_delay.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

class SegmentTimer {
 public:
  SegmentTimer(AudioSource& reference, AudioSource& capture, const AlignOptions& channels,
               std::int64_t segment_frames);

  /// What is left of each segment's delay once the capture is read where the segment was found, at that pace.
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
  /// Σxy/Σxx over the segments.
  [[nodiscard]] double gain(const std::vector<Segment>& segments, const Alignment& along);
  /// The same into an alignment, with how far it is sure.
  void take_gain(const std::vector<Segment>& segments, Alignment& along);

 private:
  AudioSource& a_;
  AudioSource& b_;
  int channel_a_, channel_b_;
  SegmentDelays timing_;
  FractionalReader reader_;
  std::vector<double> y_;  // the capture under one segment
  // Of segments of the reference, by their first frames.
  std::map<std::int64_t, SegmentDelays::Spectrum> own_;
};

}  // namespace wavicon::intake_detail
