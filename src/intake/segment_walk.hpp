// SPDX-License-Identifier: MIT
#pragma once
// Segments of a reference, each looked for in the capture near where the one before it was found. Internal to
// `intake`.

#include <cstdint>
#include <deque>
#include <mutex>
#include <optional>
#include <vector>

#include "coarse_search.hpp"
#include "delay_line.hpp"
#include "segment_search.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {

/// Frames by which a segment may lie off beside drift, at a usual rate.
inline constexpr std::int64_t kNear = 64;
/// Correlation of a segment with what lies there, from which no second way is tried.
inline constexpr double kPlainlyAlike = 0.98;
/// Segments that one slip lies in, at most.
inline constexpr int kMostAcross = 3;
/// Segments over all of a reference: more do not bring the drift any nearer.
inline constexpr std::size_t kMostSegments = 64;

/// What is looked for, and what of it was found.
struct Walked {
  std::vector<Segment> found;        ///< on the way forth, then on the way back
  std::vector<std::int64_t> places;  ///< first frames of all that were looked for, in order
  std::int64_t length = 0;           ///< of each, in frames
};

/// Walks forth and back by two threads, where two are allowed.
class SegmentWalk {
 public:
  /// @param reference, capture, coarse  kept by reference.
  SegmentWalk(AudioSource& reference, AudioSource& capture, const AlignOptions& options, CoarseSearch& coarse)
      : a_(reference), b_(capture), options_(options), coarse_(coarse) {}

  /// Outwards from where an excerpt of the reference was found. Where frames were lost or repeated on the
  /// way, the walk goes on behind them.
  /// @param delay    of the excerpt, frames.
  /// @param excerpt  its first frame.
  [[nodiscard]] Walked from(double delay, std::int64_t excerpt);

  /// Frames by which a segment may lie beside the place of its neighbour, without drift.
  [[nodiscard]] std::int64_t reach() const noexcept { return kNear + 4 * coarse_.step(); }
  /// SegmentSearch::in_phase_near() of segments of the last walk's length, one for each first frame.
  [[nodiscard]] std::vector<std::vector<double>> in_phase_near(const std::vector<std::int64_t>& firsts,
                                                               double delay, std::int64_t reach);
  /// For segments of that length.
  [[nodiscard]] SegmentSearch& search(std::int64_t length) { return searches(length)[0]; }
  /// CoarseSearch::places_of_excerpts(), found when they are first asked for; for any thread.
  [[nodiscard]] const std::vector<double>& places_of_excerpts();

 private:
  // Where the segment before was found, on the way from one to the next.
  struct Way {
    double delay = 0;
    std::int64_t known = 0;
    SegmentSearch& search;
    double usual = 0;
    int missed = 0;
    std::vector<Segment> found = {};
    std::vector<std::int64_t> farther = {};  // places beyond those that were asked for
  };
  void go_to(std::int64_t first, Way& at);
  [[nodiscard]] std::optional<Segment> at_place_of_an_excerpt(std::int64_t first, const Way& at,
                                                              std::int64_t reach);
  std::deque<SegmentSearch>& searches(std::int64_t length);

  AudioSource& a_;
  AudioSource& b_;
  AlignOptions options_;
  CoarseSearch& coarse_;
  std::int64_t length_ = 0;
  std::deque<SegmentSearch> searches_;
  std::mutex asking_;
  std::optional<std::vector<double>> places_of_excerpts_;
};

}  // namespace wavicon::intake_detail
