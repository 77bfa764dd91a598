// SPDX-License-Identifier: MIT
#pragma once
// Plover, the stand-in for a compressor: its arithmetic, used by the simulated unit and by the LV2 plugin
// alike.
//
//   peak  the highest |x| of the last millisecond, through the static curve; the gain in dB goes there
//         exponentially: attack towards less gain, release towards more
//   rms   x² averaged over the last millisecond goes exponentially (attack up, release down) into a mean
//         square, whose sine-equivalent level goes through the static curve
//
// Static curve: straight to threshold - knee/2, a parabola to threshold + knee/2, then one dB for each
// `ratio` dB. With `release2` half of the reduction recovers by that constant, the other half by `release`.

#include <cstddef>
#include <cstdint>
#include <vector>

namespace wavicon::stand_in {

struct PloverSettings {
  double threshold_dbfs = -20;  ///< of a sine's peak, with both detectors
  double ratio = 4;             ///< 1 … 100
  double knee_db = 0;
  double attack_ms = 10;  ///< time constant, to 63 %
  double release_ms = 100;
  double release2_ms = 0;  ///< 0: none
  bool rms = false;
  double makeup_db = 0;
  friend bool operator==(const PloverSettings&, const PloverSettings&) = default;
};

/// One channel of Plover. No latency.
class Plover {
 public:
  /// Allocates.
  explicit Plover(const PloverSettings& settings, double sample_rate_hz = 48000);
  /// New settings; what it has heard so far stays.
  void set(const PloverSettings& settings) noexcept;
  /// Does not allocate or lock.
  void run(const float* in, float* out, int frames) noexcept;
  [[nodiscard]] static std::int64_t latency_frames() noexcept { return 0; }

 private:
  [[nodiscard]] double reduction_db(double level_db) const noexcept;
  [[nodiscard]] double peak_of(double magnitude) noexcept;
  [[nodiscard]] double mean_square_of(double square) noexcept;

  PloverSettings settings_;
  double rate_;
  double attack_ = 0, release_ = 0, release2_ = 0;  // share of the way that one sample goes
  std::vector<double> window_;                      // the last millisecond
  std::size_t at_ = 0;
  double sum_ = 0;
  double highest_ = 0;
  std::size_t highest_age_ = 0;
  double mean_square_ = 0, mean_square2_ = 0;
  double reduced_ = 0, reduced2_ = 0;
};

}  // namespace wavicon::stand_in
