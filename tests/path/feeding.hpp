// SPDX-License-Identifier: MIT
#pragma once
// Signals sent through chains, in memory.

#include <complex>

#include "support.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/path/chain.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace wavicon::testing {

#ifdef WAVICON_BUNDLES
inline const UnitSearch kSearch = {{WAVICON_BUNDLES}};
#else
inline const UnitSearch kSearch = {};
#endif

// Channels, each a run of samples.
using Channels = std::vector<std::vector<float>>;

struct Fed {
  Channels out;
  FeedResult result;
};

inline Fed feed(const std::vector<std::string>& names, const Channels& in, FeedOptions options = {},
                double rate = 48000) {
  std::vector<std::unique_ptr<Unit>> units;
  for (const std::string& name : names) units.push_back(open_unit(parse_unit(name), kSearch));
  Chain chain(std::move(units));
  Fed fed;
  fed.out.resize(
      static_cast<std::size_t>(chain.prepare(rate, static_cast<int>(in.size()), options.block_frames)));
  std::size_t at = 0;
  fed.result = chain.feed(
      [&](std::span<float> block) {
        for (std::size_t i = 0; i < block.size(); ++i) block[i] = in[i % in.size()][at + i / in.size()];
        at += block.size() / in.size();
        return static_cast<std::int64_t>(block.size() / in.size());
      },
      static_cast<std::int64_t>(in[0].size()),
      [&](std::span<const float> block) {
        for (std::size_t i = 0; i < block.size(); ++i) fed.out[i % fed.out.size()].push_back(block[i]);
      },
      options);
  return fed;
}

inline std::vector<float> tone(double hz, double level_dbfs, std::size_t frames, double rate = 48000) {
  std::vector<double> x(frames);
  render({.sample_rate_hz = rate,
          .frequency_hz = hz,
          .level_dbfs = level_dbfs,
          .seconds = static_cast<double>(frames) / rate},
         0, x);
  return {x.begin(), x.end()};
}

inline std::vector<float> noise(std::size_t frames, std::uint64_t seed) {
  std::vector<float> x(frames);
  for (std::size_t n = 0; n < frames; ++n) x[n] = static_cast<float>(random_triangular(seed, 0, n));
  return x;
}

inline double amplitude_at(const std::vector<float>& x, double hz, double rate = 48000) {
  const std::vector<double> y(x.begin(), x.end());
  return 2 * std::abs(tone_sum(y, phase_step(hz, rate))) / static_cast<double>(y.size());
}

}  // namespace wavicon::testing
