// SPDX-License-Identifier: MIT
#pragma once
// Sweeps through filters of known response.

#include <complex>
#include <vector>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/measure/response/response.hpp"

namespace wavicon::testing {

inline const Sweep kSweep{.from_hz = 18, .to_hz = 22000, .seconds = 5, .level_dbfs = -12};

inline Signal sweep(double rate, const Sweep& which = kSweep) {
  Recipe recipe{.sample_rate_hz = rate, .marks = false, .silence_before_s = 0.2, .silence_after_s = 0.6};
  recipe.parts.push_back({.kind = which});
  Stimulus stimulus(recipe);
  return rendered(stimulus);
}

inline ResponseOptions sweep_options(double delay = 0) {
  ResponseOptions options{
      .from_s = 0.2, .to_s = 5.2, .sweep = true, .sweep_from_hz = 18, .sweep_to_hz = 22000};
  options.alignment = Alignment{};
  options.alignment->delay_frames = delay;
  return options;
}

inline ResponseResult response_of(const Signal& a, const Signal& b, double rate,
                                  const ResponseOptions& options = {}) {
  const Audio x = audio_of(a, rate), y = audio_of(b, rate);
  MemorySource from(x), against(y);
  return measure_response(taken(from), taken(against), options);
}

inline std::complex<double> of(const std::vector<Section>& sections, double hz, double rate) {
  std::complex<double> h = 1;
  for (const Section& s : sections) h *= s.at(hz, rate);
  return h;
}

inline Signal through(Signal x, const std::vector<Section>& sections) {
  for (const Section& s : sections) x = filtered(x, s);
  return x;
}

inline Section first_cut(double hz, double rate) {
  const double k = std::tan(M_PI * hz / rate);
  return {1 / (1 + k), -1 / (1 + k), 0, (k - 1) / (k + 1), 0};
}

}  // namespace wavicon::testing
