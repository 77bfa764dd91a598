// SPDX-License-Identifier: MIT
#pragma once
// A recipe made into samples, from any frame on, in blocks of any size: an hour needs no more memory than a
// second.

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/stimulus/recipe.hpp"

namespace wavicon {

/// Where a part lies.
struct PlacedPart {
  std::string name;
  std::string kind;
  std::int64_t first_frame = 0;
  std::int64_t frames = 0;    ///< without the silence around it
  std::vector<int> channels;  ///< from 0
};

/// Where the marks lie: the first frames of two chirps of the same length, the one at the end being the first
/// one backwards.
struct PlacedMarks {
  std::int64_t start_frame = 0;
  std::int64_t end_frame = 0;
  std::int64_t frames = 0;
};

/// Rendering needs scratch memory, so one object serves one thread at a time.
class WAVICON_EXPORT Stimulus {
 public:
  /// @param recipe  valid; copied. @throws Error bad_argument as require_valid(Recipe).
  explicit Stimulus(const Recipe& recipe);
  ~Stimulus();
  Stimulus(Stimulus&&) noexcept;
  Stimulus& operator=(Stimulus&&) noexcept;

  [[nodiscard]] const Recipe& recipe() const noexcept;
  [[nodiscard]] std::int64_t frames() const noexcept;
  [[nodiscard]] const std::vector<PlacedPart>& parts() const noexcept;
  [[nodiscard]] const std::optional<PlacedMarks>& marks() const noexcept;

  /// Writes frames first_frame … of one channel (from 0); what lies outside is silence. Same bits for any
  /// division into blocks.
  void render(std::int64_t first_frame, int channel, std::span<double> out);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// Length of the stimulus, without making it.
[[nodiscard]] WAVICON_EXPORT double stimulus_seconds(const Recipe& recipe);

/// The chirp of a mark: log sweep over 0.15 s from 400 Hz to 5 kHz (or 0.4 of the rate), -20 dBFS,
/// raised-cosine edges of 10 ms.
[[nodiscard]] WAVICON_EXPORT std::vector<double> mark_samples(double sample_rate_hz);
/// The same chirp as a stimulus of `stimulus_rate_hz` carries it, sampled at another rate: what a capture at
/// that rate holds.
[[nodiscard]] WAVICON_EXPORT std::vector<double> mark_samples(double sample_rate_hz, double stimulus_rate_hz);

/// One step of a staircase, without its edges.
struct StaircaseStep {
  double frequency_hz = 0;
  double level_dbfs = 0;         ///< of the peak, trim included
  std::int64_t first_frame = 0;  ///< from the start of the part
  std::int64_t frames = 0;
};

/// The steps of a staircase in the order in which they are played: every level of the first frequency first.
[[nodiscard]] WAVICON_EXPORT std::vector<StaircaseStep> staircase_steps(const Staircase& staircase,
                                                                        double sample_rate_hz);

/// Where the level of a block steps, in frames from the start of the part: rising zero crossings.
struct BlockSteps {
  double up_frame = 0;
  double down_frame = 0;
  std::int64_t frames = 0;
};
[[nodiscard]] WAVICON_EXPORT BlockSteps block_steps(const LevelBlock& block, double sample_rate_hz);

/// Exact phase of a sweep in cycles at a time in seconds from its start; analysis follows orders by it.
[[nodiscard]] WAVICON_EXPORT double sweep_cycles(const Sweep& sweep, double time_s);
/// The same of many times, in place, bit for bit.
WAVICON_EXPORT void sweep_cycles(const Sweep& sweep, std::span<double> times_s);
/// Length of one way of a sweep: sweep.seconds, or the nearest that synchronises it: a whole number of
/// from_hz·T/ln(to_hz/from_hz).
[[nodiscard]] WAVICON_EXPORT double sweep_seconds(const Sweep& sweep);

}  // namespace wavicon
