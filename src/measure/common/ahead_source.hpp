// SPDX-License-Identifier: MIT
#pragma once
// A source that is read from front to back: what will be asked for next is read while the caller works.
// Internal to `measure`.

#include <cstdint>
#include <optional>
#include <vector>

#include "wavicon/audio/source.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::measure_detail {

/// Where two threads are allowed; else it is the source that it was given.
class AheadSource final : public AudioSource {
 public:
  /// @param alone  whether nobody else reads the source meanwhile; else nothing is read ahead.
  AheadSource(AudioSource& source, bool alone) : source_(source), alone_(alone) {}

  [[nodiscard]] double sample_rate_hz() const noexcept override { return source_.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return source_.channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return source_.frames(); }
  /// The next read is expected as far behind this one as this one is behind the last.
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  void expect(std::int64_t first, std::int64_t frames);

  AudioSource& source_;
  bool alone_;
  std::int64_t last_ = -1;
  std::int64_t ahead_first_ = 0, ahead_frames_ = 0;
  std::vector<double> ahead_;
  std::optional<WorkBeside> reading_;  // into ahead_: it goes first
};

}  // namespace wavicon::measure_detail
