// SPDX-License-Identifier: MIT
#pragma once
// Units in series, and a signal sent through them block by block.

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/path/unit.hpp"

namespace wavicon {

struct FeedOptions {
  int block_frames = 512;  ///< 1 … 65536; every block has this length, the last one is filled up with silence
  bool keep_latency = false;             ///< leave the delay that the units report in the capture
  std::int64_t tail_frames = 0;          ///< silence fed after the stimulus, kept in the capture
  std::function<void(double)> progress;  ///< called now and then with the part that is done, 0 … 1
};

struct FeedResult {
  std::int64_t frames = 0;          ///< of the capture: the stimulus's, the tail's, and a kept latency
  std::int64_t latency_frames = 0;  ///< that the units reported together
  bool latency_changed = false;     ///< a unit reported another latency at the end than at the start
  double peak_in = 0;               ///< full scale = 1
  double peak_out = 0;
  double run_s = 0;    ///< that the units took
  double audio_s = 0;  ///< that went through them: when it is less, they cannot keep up in real time
};

/// Fills an interleaved block; returns frames, fewer than asked only at the end.
using FeedSource = std::function<std::int64_t(std::span<float> interleaved)>;
/// Takes an interleaved block.
using FeedSink = std::function<void(std::span<const float> interleaved)>;

/// Units in the order in which the signal meets them.
class WAVICON_EXPORT Chain {
 public:
  explicit Chain(std::vector<std::unique_ptr<Unit>> units);
  ~Chain();

  /// Makes every unit ready. @return channels that come out. @throws Error as Unit::prepare(), bad_argument
  /// for a block length out of range.
  int prepare(double sample_rate_hz, int channel_count, int block_frames);

  /// Sample rate that the capture is said to have: the chain's, or what its last unit with a claim claims.
  [[nodiscard]] double claimed_rate_hz() const noexcept;

  /// What was put right in what its units say of themselves, as sentences that name the unit.
  [[nodiscard]] std::vector<std::string> remarks() const;

  /// Sends a whole signal through; prepare() first. The capture lines up with the stimulus, as far as the
  /// units report their delay truly.
  ///
  /// @throws Error bad_input when the stimulus holds NaN or an infinite value
  /// @throws Error unit_failed when a unit's output holds NaN or an infinite value, naming unit, channel and
  /// time
  FeedResult feed(const FeedSource& source, std::int64_t frames, const FeedSink& sink,
                  const FeedOptions& options = {});

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace wavicon
