// SPDX-License-Identifier: MIT
#pragma once
// What comes back of a signal: late, by a clock of its own, with a little noise. Internal to the benchmarks.

#include <cstdint>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/random.hpp"

inline wavicon::Audio late(const wavicon::Audio& from, double delay, double step) {
  wavicon::Audio to(from.sample_rate_hz(), from.channel_count(), from.frames());
  const wavicon::FractionalReader reader;
  for (int c = 0; c < from.channel_count(); ++c) {
    auto y = to.channel(c);
    reader.read(from.channel(c), -delay * step, step, y);
    for (std::size_t n = 0; n < y.size(); ++n)
      y[n] += 1e-5 * (wavicon::random_uniform(1, static_cast<std::uint64_t>(c), n) - 0.5);
  }
  return to;
}
