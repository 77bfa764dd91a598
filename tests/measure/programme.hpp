// SPDX-License-Identifier: MIT
#pragma once
// Made-up programme and what a path may do to it, for measurements of two recordings.

#include <complex>
#include <map>

#include "intake/damage.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::testing {

using Signal = std::vector<double>;

/// Speech or music over room noise of -85 dBFS; made once and kept.
inline const Signal& programme(const std::string& content, double rate, double seconds,
                               std::int64_t seed = 1) {
  static std::map<std::string, Signal> made;
  Signal& signal =
      made[content + std::to_string(rate) + "/" + std::to_string(seconds) + "/" + std::to_string(seed)];
  if (!signal.empty()) return signal;
  Recipe recipe{.sample_rate_hz = rate, .marks = false};
  recipe.parts.push_back(
      {.kind = Programme{.content = content, .level_dbfs = -30, .seconds = seconds, .seed = seed}});
  recipe.parts.push_back(
      {.kind = Noise{.colour = "pink", .level_dbfs = -85, .seconds = seconds, .seed = seed + 7},
       .with_previous = true});
  Stimulus stimulus(recipe);
  signal = rendered(stimulus);
  return signal;
}

/// Late by so many samples, the clock off by so many ppm.
inline Signal moved(const Signal& x, double delay, double ppm = 0) {
  const double step = 1 / (1 + ppm * 1e-6);
  return resampled(x, step, delay * step, x.size());
}

inline Signal scaled(Signal x, double gain) {
  for (double& v : x) v *= gain;
  return x;
}

inline Signal added(Signal x, const Signal& y) {
  for (std::size_t n = 0; n < std::min(x.size(), y.size()); ++n) x[n] += y[n];
  return x;
}

inline Signal noise(std::size_t length, double dbfs, std::uint64_t seed) {
  Signal x(length);
  for (std::size_t n = 0; n < length; ++n) x[n] = ratio_from_db(dbfs) * gaussian(seed, n);
  return x;
}

inline Signal hum(std::size_t length, double rate, double base_hz, double dbfs) {
  Signal x(length);
  for (std::size_t n = 0; n < length; ++n)
    for (const auto& [order, db] : {std::pair{1, 0.0}, {2, -12.0}, {3, -6.0}})
      x[n] += ratio_from_db(dbfs + db) *
              exact_sine(order * base_hz, rate, static_cast<std::int64_t>(n), 0.1 * order);
  return x;
}

inline Signal stored(Signal x, int bits, bool dither, std::uint64_t seed = 1) {
  if (bits == 20) {  // no format of its own
    for (std::size_t n = 0; n < x.size(); ++n) {
      const double tpdf = dither ? random_uniform(seed, 0, n) - random_uniform(seed, 1, n) : 0;
      x[n] = std::floor(x[n] * 524288 + tpdf + 0.5) / 524288;
    }
    return x;
  }
  const Quantiser quantiser(bits == 16   ? SampleFormat::pcm16
                            : bits == 24 ? SampleFormat::pcm24
                                         : SampleFormat::float32,
                            dither, seed);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = quantiser.value(x[n], 0, static_cast<std::int64_t>(n));
  return x;
}

/// One section of a filter: b0, b1, b2 over 1, a1, a2.
struct Section {
  double b0, b1, b2, a1, a2;
  [[nodiscard]] std::complex<double> at(double hz, double rate) const {
    const auto z = std::polar(1.0, -2 * M_PI * hz / rate);
    return (b0 + z * (b1 + z * b2)) / (1.0 + z * (a1 + z * a2));
  }
};

/// A bell as an equaliser has it (bilinear transform of the analogue section).
inline Section bell(double hz, double gain_db, double q, double rate) {
  const double a = std::sqrt(ratio_from_db(gain_db)), w = 2 * M_PI * hz / rate, s = std::sin(w) / (2 * q),
               n = 1 + s / a;
  return {(1 + s * a) / n, -2 * std::cos(w) / n, (1 - s * a) / n, -2 * std::cos(w) / n, (1 - s / a) / n};
}

/// Second-order cut of low frequencies, Butterworth for q = 0.7071.
inline Section low_cut(double hz, double q, double rate) {
  const double w = 2 * M_PI * hz / rate, c = std::cos(w), s = std::sin(w) / (2 * q), n = 1 + s;
  return {(1 + c) / 2 / n, -(1 + c) / n, (1 + c) / 2 / n, -2 * c / n, (1 - s) / n};
}

inline Signal filtered(const Signal& x, const Section& f) {
  Signal y(x.size());
  double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
  for (std::size_t n = 0; n < x.size(); ++n) {
    y[n] = f.b0 * x[n] + f.b1 * x1 + f.b2 * x2 - f.a1 * y1 - f.a2 * y2;
    x2 = x1;
    x1 = x[n];
    y2 = y1;
    y1 = y[n];
  }
  return y;
}

template <typename Device>
Signal shaped(Signal x, const Device& device) {
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = device(x[n], n);
  return x;
}

}  // namespace wavicon::testing
