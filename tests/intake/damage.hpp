// SPDX-License-Identifier: MIT
#pragma once
// Captures of known damage, in memory.

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon::testing {

/// What a booth would play: a tone, a sweep, some noise, between marks.
inline Recipe booth_recipe(double rate, std::int64_t seed = 1) {
  Recipe recipe{.sample_rate_hz = rate};
  recipe.parts.push_back(
      {.kind = Tone{
           .frequency_hz = 997, .level_dbfs = -20, .seconds = 0.5, .fade_in_s = 0.01, .fade_out_s = 0.01}});
  recipe.parts.push_back(
      {.kind = Sweep{.from_hz = 50, .to_hz = 0.4 * rate, .seconds = 1.5, .level_dbfs = -15}});
  recipe.parts.push_back({.kind = Noise{.colour = "pink", .level_dbfs = -30, .seconds = 1, .seed = seed}});
  return recipe;
}

inline std::vector<double> rendered(Stimulus& stimulus) {
  std::vector<double> x(static_cast<std::size_t>(stimulus.frames()));
  stimulus.render(0, 0, x);
  return x;
}

inline Audio audio_of(const std::vector<double>& x, double rate) {
  Audio audio(rate, 1, static_cast<std::int64_t>(x.size()));
  std::copy(x.begin(), x.end(), audio.channel(0).begin());
  return audio;
}

inline double gaussian(std::uint64_t seed, std::uint64_t n) {
  const double u = 1 - random_uniform(seed, 100, n), v = random_uniform(seed, 101, n);
  return std::sqrt(-2 * std::log(u)) * std::cos(2 * M_PI * v);
}

/// `before` frames of silence, the signal, `after` frames of silence.
inline std::vector<double> padded(const std::vector<double>& x, std::size_t before, std::size_t after) {
  std::vector<double> y(before, 0.0);
  y.insert(y.end(), x.begin(), x.end());
  y.resize(y.size() + after, 0.0);
  return y;
}

/// The signal read at other places: y[n] = x(n·step - delay).
inline std::vector<double> resampled(const std::vector<double>& x, double step, double delay,
                                     std::size_t length) {
  static const FractionalReader reader;
  std::vector<double> y(length);
  reader.read(x, -delay, step, y);
  return y;
}

/// First-order high-pass and low-pass, twice each.
inline std::vector<double> band_limited(std::vector<double> x, double low_hz, double high_hz, double rate) {
  for (int pass = 0; pass < 2; ++pass) {
    const double a = std::exp(-2 * M_PI * low_hz / rate), b = 1 - std::exp(-2 * M_PI * high_hz / rate);
    double slow = 0, smooth = 0;
    for (double& v : x) {
      slow += (1 - a) * (v - slow);
      smooth += b * (v - slow - smooth);
      v = smooth;
    }
  }
  return x;
}

/// All findings that are worse than notes, as one text.
inline std::string troubles(const Sheet& sheet) {
  std::string text;
  for (const Finding& finding : sheet.findings)
    if (finding.severity != Severity::note) text += name_of(finding.severity) + ": " + finding.text + "\n";
  return text;
}

}  // namespace wavicon::testing
