// SPDX-License-Identifier: MIT
#pragma once
// One short sound (a kick, a click, a burst) found in a capture: too short for segments and for a drift.
// Internal to `intake`.

#include <cstdint>
#include <optional>
#include <vector>

#include "envelope.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {

/// Seconds before and after a hit that belong to it: its attack and its ring.
inline constexpr double kAroundHitS = 0.01;

/// Whether what sounds is so short that it is one hit.
[[nodiscard]] bool is_hit(const Stretch& active, double sample_rate_hz) noexcept;

/// Where the hit lies in the capture, to a frame.
struct HitPlace {
  std::int64_t delay_frames = 0;
  double match = 0;  ///< correlation of both whitened by the root of their spectra, -1 … 1; below 0: inverted
  double agreement = 0;  ///< mean correlation of the third octaves there, each with one vote, sign as match
  int bands = 0;         ///< third octaves that sound in both
  std::vector<std::int64_t> others;  ///< delays at which it matches nearly as well
};

/// Whether a place is to be believed: it matches, and the bands agree on it. A hit most of which a filter
/// turned in phase matches best where its loud low end fits, by up to 3 ms beside where it lies; the other
/// bands then disagree. Where nearly all bands agree a filter may have taken some off the match.
[[nodiscard]] bool is_believable(const HitPlace& place, double least_match) noexcept;

/// The place at which the capture matches a stretch of the reference best; none when it is silent.
[[nodiscard]] std::optional<HitPlace> find_hit(AudioSource& reference, int reference_channel,
                                               const Stretch& active, AudioSource& capture,
                                               int capture_channel, RealTransforms& transforms);

/// As find_hit(), no farther than reach_frames from a delay.
[[nodiscard]] std::optional<HitPlace> find_hit_near(AudioSource& reference, int reference_channel,
                                                    const Stretch& active, AudioSource& capture,
                                                    int capture_channel, std::int64_t delay_frames,
                                                    std::int64_t reach_frames, RealTransforms& transforms);

/// A hit whose delay is known to a frame, timed to a small part of one.
struct TimedHit {
  double delay_frames = 0;
  double sigma_frames = 0;
  double both = 0, own = 0;      ///< Σxy and Σx² there: their ratio is the gain
  bool proven_by_curve = false;  ///< the capture is a curve of the hit there, to -25 dB
};

/// @return none when nothing of it says anything of time.
[[nodiscard]] std::optional<TimedHit> time_hit(AudioSource& reference, int reference_channel,
                                               const Stretch& active, AudioSource& capture,
                                               int capture_channel, double delay_frames);

}  // namespace wavicon::intake_detail
