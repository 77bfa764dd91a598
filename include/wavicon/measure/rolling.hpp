// SPDX-License-Identifier: MIT
#pragma once
// Measurements of what is pushed: any measurement over the newest seconds, in fixed memory. The
// figures are those of the same seconds in a file.
//
// Threads: one thread pushes and never waits, allocates or locks (an audio callback may); one other thread
// asks for sheets, which takes as long as the measurement takes. prepare() belongs to neither: nobody may
// push or ask meanwhile.

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/measure/measurement.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// What the newest window is measured as.
struct RollingOptions {
  double window_s = 3;  ///< what a figure is of, 0.05 … 600
  /// What was played and is in the window, where that is known: its marks are looked for, in both of two
  /// streams.
  std::shared_ptr<Stimulus> stimulus;
};

/// One measurement of one stream, or of two that are pushed in step.
class WAVICON_EXPORT Rolling {
 public:
  /// @param measurement  a name of the list: "levels", "spectrum", "noise", "harmonics" of one stream;
  /// "null", "latency", "pair" of two; "health" for what is wrong with the stream itself.
  /// @throws Error bad_argument for any other name (with the nearest), or a window out of range.
  explicit Rolling(std::string_view measurement, const RollingOptions& options = {});
  ~Rolling();
  Rolling(Rolling&&) noexcept;
  Rolling& operator=(Rolling&&) noexcept;

  /// Options of the measurement, to be set before anything is asked.
  [[nodiscard]] std::vector<OptionField> fields();
  /// Takes all the memory that there will be, and begins anew.
  ///
  /// @param channel_count  of a stream. @throws Error bad_argument for a rate that is not above 0, or no
  /// channel.
  void prepare(double sample_rate_hz, int channel_count);

  /// A block of one stream, of any length: a pointer for each channel, or frame after frame. Nothing happens
  /// before prepare(), and for a measurement of two streams. Floors are those of the format that is pushed.
  void push(const float* const* planar, std::int64_t frames) noexcept;
  void push(const double* const* planar, std::int64_t frames) noexcept;
  void push_interleaved(const float* samples, std::int64_t frames) noexcept;
  void push_interleaved(const double* samples, std::int64_t frames) noexcept;
  /// A block of two streams, in step: what went out (A), and what came in (B) at the same time.
  /// Nothing happens for a measurement of one.
  void push(const float* const* a, const float* const* b, std::int64_t frames) noexcept;
  void push(const double* const* a, const double* const* b, std::int64_t frames) noexcept;

  /// Seconds that were pushed since prepare().
  [[nodiscard]] double pushed_s() const noexcept;
  /// The sheets of the newest window; none while there is less than that.
  ///
  /// @throws Error what the measurement throws: bad_input for a NaN in the window, for what cannot be lined
  /// up.
  [[nodiscard]] std::vector<Sheet> sheets();

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace wavicon
