// SPDX-License-Identifier: MIT
#pragma once
// The ways to a response: one sweep divided as a whole, or spectra averaged. Internal to `measure`.

#include <complex>
#include <map>
#include <optional>
#include <tuple>
#include <utility>
#include <vector>

#include "measure/common/frame_range.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/measure/response/response.hpp"

namespace wavicon {

struct ResponseCache::Impl {
  struct Neighbour {
    std::size_t first = 0;  // of the frames read
    std::vector<double> samples;
  };
  struct OfA {
    std::vector<std::complex<double>> spectrum;
    double energy = 0;
    std::vector<Neighbour> beside;  // what lies before and behind it; empty: silence
  };
  std::vector<double> energies;  // of A's channels within the next stretch
  std::pair<std::int64_t, std::int64_t> energies_of{0, 0};
  std::optional<RealTransform> transform;
  RealTransforms short_ones;
  std::map<std::tuple<int, std::int64_t, std::int64_t>, OfA> spectra;  // by channel, first frame and length
  std::vector<std::complex<double>> quotient;                          // scratch
};

namespace measure_detail {

struct ResponseTask {
  AudioSource& a;
  AudioSource& b;
  const ResponseOptions& options;
  double rate = 0;
  FrameRange range;  ///< of A
  Alignment alignment;
};

inline constexpr double kLowestHz = 10;
inline constexpr double kHighest = 0.46;  ///< of the rate

/// The common axis of all responses: kPerOctave places to the octave, one of them at 1 kHz.
[[nodiscard]] std::vector<double> response_axis(double from_hz, double to_hz);

/// One channel of B where A's frames lie; the fraction of the delay is left when there is no drift.
[[nodiscard]] std::vector<double> read_b(const ResponseTask& task, int channel, std::int64_t first,
                                         std::int64_t frames, double& rest);

/// Fills points, impulse, delay, level and what is spoiled; nothing where A or B is silent.
void divide_sweep(const ResponseTask& task, ResponseCache::Impl& cache, int of_a, int of_b,
                  ChannelResponse& channel);
void average_spectra(const ResponseTask& task, int of_a, int of_b, ChannelResponse& channel);

}  // namespace measure_detail
}  // namespace wavicon
