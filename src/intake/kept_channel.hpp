// SPDX-License-Identifier: MIT
#pragma once
// One channel of a source, what was read of it last kept: an alignment reads the same stretches many times,
// and on several threads. Internal to `intake`.

#include <cstdint>
#include <mutex>
#include <vector>

#include "wavicon/audio/source.hpp"

namespace wavicon::intake_detail {

/// For any number of threads at a time, which the source itself need not be.
class KeptChannel final : public AudioSource {
 public:
  /// @param source  kept by reference. @param channel  from 0, one that is there.
  KeptChannel(AudioSource& source, int channel);

  [[nodiscard]] double sample_rate_hz() const noexcept override { return source_.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return 1; }
  [[nodiscard]] std::int64_t frames() const noexcept override { return source_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  static constexpr std::int64_t kNone = -1;
  [[nodiscard]] bool holds(std::int64_t block) const {
    return slots_[static_cast<std::size_t>(block)] != kNone;
  }
  void fetch(std::int64_t block, std::int64_t end);
  void keep(std::int64_t block, std::span<const double> samples);

  AudioSource& source_;
  int channel_;
  std::mutex reading_;
  std::vector<std::int32_t> slots_;  // where each block is kept
  std::vector<std::vector<double>> kept_;
  std::vector<std::int64_t> blocks_;  // what each place keeps
  std::size_t next_ = 0;
  std::vector<double> scratch_;
};

}  // namespace wavicon::intake_detail
