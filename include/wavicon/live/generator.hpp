// SPDX-License-Identifier: MIT
#pragma once
// What is played while somebody watches: a tone that is turned by hand, or a stimulus without end.

#include <atomic>
#include <cstdint>
#include <string>
#include <vector>

#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/export.hpp"

namespace wavicon {

struct GeneratorOptions {
  std::string name = "tone";  ///< for a person
  double sample_rate_hz = 48000;
  double frequency_hz = 1000;  ///< of a tone
  double level_dbfs = -20;     ///< peak
  double ceiling_dbfs = -6;    ///< no level is higher
  bool on = true;
  /// One run for each channel, played over and over; empty: a tone.
  std::vector<std::vector<float>> loop;
};

/// Turned from any thread, rendered in one that may not wait. Switched and turned over 20 ms, without clicks.
class WAVICON_EXPORT Generator {
 public:
  /// @throws Error bad_argument for a level above the ceiling, a frequency that the rate cannot hold, or a
  /// loop of nothing.
  explicit Generator(GeneratorOptions options);

  /// The next block. Allocates, locks and waits for nothing. @param out  a pointer for each channel; of a
  /// loop with fewer channels the last goes to all that are left.
  void render(float* const* out, int channel_count, std::int64_t frames) noexcept;

  [[nodiscard]] const std::string& name() const noexcept { return options_.name; }
  [[nodiscard]] bool is_tone() const noexcept { return options_.loop.empty(); }
  [[nodiscard]] int channel_count() const noexcept;
  [[nodiscard]] double sample_rate_hz() const noexcept { return options_.sample_rate_hz; }
  [[nodiscard]] double ceiling_dbfs() const noexcept { return options_.ceiling_dbfs; }
  [[nodiscard]] bool on() const noexcept { return on_.load(std::memory_order_relaxed); }
  [[nodiscard]] double frequency_hz() const noexcept { return frequency_hz_; }
  [[nodiscard]] double level_dbfs() const noexcept { return level_dbfs_; }

  void switch_on(bool on) noexcept { on_.store(on, std::memory_order_relaxed); }
  /// @return what it became: kept within 1 Hz and 0.49 of the rate, and -140 dBFS and the ceiling.
  double set_frequency(double hz);
  double set_level(double dbfs);

  /// Frames that were rendered in all, and where the last whole run of a loop began.
  [[nodiscard]] std::int64_t rendered() const noexcept { return rendered_.load(std::memory_order_acquire); }
  [[nodiscard]] std::int64_t loop_frames() const noexcept { return loop_frames_; }

 private:
  GeneratorOptions options_;
  double frequency_hz_ = 0, level_dbfs_ = 0;  // as they were asked for
  double loop_peak_ = 1;
  std::int64_t loop_frames_ = 0;
  std::atomic<Phase> step_{0};
  std::atomic<double> wanted_{0};  // factor
  std::atomic<bool> on_;
  std::atomic<std::int64_t> rendered_{0};
  Phase phase_ = 0;
  double factor_ = 0;  // now
  double most_change_;
};

}  // namespace wavicon
