// SPDX-License-Identifier: MIT
#pragma once
// Audio made of bytes: samples as they come, or tones, noise and steps that bytes choose, with damage.

#include <cmath>
#include <numbers>

#include "target.hpp"
#include "wavicon/audio/audio.hpp"

namespace wavicon::fuzz {

inline constexpr double kRates[] = {1000, 8000, 11025, 44100, 48000, 96000, 192000, 768000};

/// Values of bytes: integers of 16 bits, or floats, whatever they are.
inline void fill_raw(Bytes& bytes, Audio& audio, bool floats) {
  for (int c = 0; c < audio.channel_count(); ++c)
    for (double& x : audio.channel(c))
      x = floats ? static_cast<double>(bytes.number<float>()) : bytes.number<std::int16_t>() / 32768.0;
}

/// Tones, steps and noise.
inline void fill_made(Bytes& bytes, Audio& audio) {
  const double rate = audio.sample_rate_hz();
  std::uint32_t state = bytes.number<std::uint32_t>() | 1U;
  for (int c = 0; c < audio.channel_count(); ++c) {
    const double hz = rate * bytes.number<std::uint16_t>() / 131072.0,
                 level = std::pow(10, -bytes.number<std::uint8_t>() / 20.0),
                 noise = std::pow(10, -bytes.number<std::uint8_t>() / 20.0),
                 steps = std::ldexp(1, bytes.choice(24) + 1), clip = 1.5 / (1 + bytes.choice(8));
    double phase = 0;
    for (double& x : audio.channel(c)) {
      state = state * 1664525U + 1013904223U;
      phase += hz / rate;
      x = level * std::sin(2 * std::numbers::pi * phase) + noise * (state / 4294967296.0 - 0.5);
      x = std::clamp(std::round(x * steps) / steps, -clip, clip);
    }
  }
  for (int i = bytes.choice(4); i > 0 && audio.frames() > 0; --i) {
    const auto at = static_cast<std::size_t>(bytes.up_to(static_cast<std::uint32_t>(audio.frames() - 1)));
    const auto run =
        audio.channel(bytes.choice(static_cast<std::uint8_t>(std::min(audio.channel_count(), 255))));
    std::fill(run.begin() + static_cast<std::ptrdiff_t>(at),
              run.begin() + static_cast<std::ptrdiff_t>(std::min(at + bytes.up_to(4000), run.size())),
              bytes.number<std::int8_t>() / 100.0);
  }
}

/// @param most_samples  of all channels together.
inline Audio signal_of(Bytes& bytes, std::uint32_t most_samples) {
  const double rate = bytes.choice(8) == 0 ? 1000 + bytes.up_to(767000) : kRates[bytes.choice(8)];
  constexpr int kChannels[] = {1, 1, 1, 2, 2, 3, 8, 64};
  const int channels = kChannels[bytes.choice(8)];
  const std::uint8_t way = bytes.choice(4);
  const auto most = most_samples / static_cast<std::uint32_t>(channels);
  const auto frames = way < 2 ? std::min<std::uint32_t>(
                                    most, static_cast<std::uint32_t>(bytes.left() / (way == 0 ? 2 : 4) + 1))
                              : bytes.up_to(most);
  Audio audio(rate, channels, frames);
  if (way < 2)
    fill_raw(bytes, audio, way == 1);
  else
    fill_made(bytes, audio);
  return audio;
}

}  // namespace wavicon::fuzz
