// SPDX-License-Identifier: MIT
#pragma once
// Sounds as functions of time: they can be taken late by any fraction of a frame and at any speed without
// being read between samples, and share no code with the library.

#include <complex>
#include <cstdint>
#include <functional>
#include <random>
#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"

namespace wavicon::trials {

/// Amplitude at a time in seconds, full scale = 1; 0 before it begins. Nothing above 20 kHz to speak of.
using Sound = std::function<double(double)>;

/// Pseudo-random numbers that depend on the seed alone.
class Dice {
 public:
  explicit Dice(std::uint64_t seed) : engine_(seed * 0x9E3779B97F4A7C15ULL + 0x1234567ULL) {}
  double uniform(double from, double to) {
    return from + (to - from) * static_cast<double>(engine_() >> 11) * 0x1p-53;
  }
  /// Evenly in octaves.
  double ratio(double from, double to);
  std::int64_t whole(std::int64_t from, std::int64_t to) {
    return from + static_cast<std::int64_t>(engine_() % static_cast<std::uint64_t>(to - from + 1));
  }
  bool chance(double share) { return uniform(0, 1) < share; }
  double gaussian();

 private:
  std::mt19937_64 engine_;
};

// Sounds of several seconds.
Sound voice(double seconds, std::uint64_t seed);
Sound music(double seconds, std::uint64_t seed);
Sound pad(double seconds, std::uint64_t seed);
Sound hiss(double seconds, double rms, std::uint64_t seed);
/// Drums on a beat, one sample each for kick and snare.
Sound drums(double seconds, double beats_per_minute, std::uint64_t seed);
Sound log_sweep(double from_hz, double to_hz, double seconds, double level, double at_s);
Sound linear_sweep(double from_hz, double to_hz, double seconds, double level, double at_s);
Sound tone(double hz, double level, double from_s, double to_s, double fade_s, double turn = 0);

// Single hits; each begins at 0.05 s.
Sound kick(std::uint64_t seed);
Sound snare(std::uint64_t seed);
Sound tom(std::uint64_t seed);
Sound click();
Sound burst(double hz, double seconds);

Sound sum(std::vector<Sound> sounds);
Sound shifted(Sound sound, double late_s);

/// How a sound is taken: at its frame n lies the time (n - delay)/(rate·(1 + ppm·1e-6)).
struct Taking {
  double rate_hz = 48000;
  std::int64_t frames = 0;
  double delay_frames = 0;
  double drift_ppm = 0;
  double gain = 1;
};
[[nodiscard]] std::vector<double> taken(const Sound& sound, const Taking& how);

/// Moved by whole frames, bit for bit.
[[nodiscard]] std::vector<double> moved(const std::vector<double>& x, std::int64_t late, std::size_t length);
void add_noise(std::vector<double>& x, double rms, std::uint64_t seed);
[[nodiscard]] double rms_of(const std::vector<double>& x);
[[nodiscard]] double peak_of(const std::vector<double>& x);
[[nodiscard]] Audio audio_of(const std::vector<double>& x, double rate_hz);

/// A section of second order, by the bilinear transform; what it does is known in closed form.
struct Biquad {
  double b0 = 1, b1 = 0, b2 = 0, a1 = 0, a2 = 0;
  void run(std::vector<double>& x) const;
  /// What it makes of a frequency: gain and phase.
  [[nodiscard]] std::complex<double> at(double hz, double rate_hz) const;
  [[nodiscard]] double gain_at(double hz, double rate_hz) const;
};
[[nodiscard]] Biquad low_cut(double hz, double rate_hz);
[[nodiscard]] Biquad high_cut(double hz, double rate_hz);

}  // namespace wavicon::trials
