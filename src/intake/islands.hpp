// SPDX-License-Identifier: MIT
#pragma once
// Where a signal sounds: stretches between silences. Internal to `intake`.

#include <cstdint>
#include <vector>

#include "wavicon/audio/source.hpp"

namespace wavicon::intake_detail {

/// A stretch without silence in it, to the sample.
struct Island {
  std::int64_t first = 0;
  std::int64_t end = 0;
  [[nodiscard]] std::int64_t frames() const noexcept { return end - first; }
};

struct Islands {
  double idle_rms = 0;  ///< of the quietest 20 ms
  double limit = 0;     ///< magnitude from which a sample sounds
  std::vector<Island> islands;
};

/// Sound is what stands 9 dB over the quietest 20 ms, in blocks of 1 ms; silences of 5 ms part islands. A
/// signal that never falls 15 dB below its loudest is one island.
///
/// @param source  read in blocks: memory grows by 16 bytes for each millisecond.
/// @throws Error bad_input for NaN or infinity.
[[nodiscard]] Islands find_islands(AudioSource& source, int channel);

}  // namespace wavicon::intake_detail
