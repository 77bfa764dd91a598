// SPDX-License-Identifier: MIT
#include "wavicon/audio/sample_format.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "audio/wide.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon {

bool is_integer(SampleFormat format) noexcept {
  return format != SampleFormat::float32 && format != SampleFormat::float64;
}

int bits(SampleFormat format) noexcept {
  switch (format) {
    case SampleFormat::pcm8:
      return 8;
    case SampleFormat::pcm16:
      return 16;
    case SampleFormat::pcm24:
      return 24;
    case SampleFormat::float64:
      return 64;
    default:
      return 32;
  }
}

std::string name_of(SampleFormat format) {
  return std::to_string(bits(format)) + (is_integer(format) ? "-bit" : "-bit float");
}

Quantiser::Quantiser(SampleFormat format, bool dither, std::uint64_t seed) noexcept
    : format_(format),
      dither_(dither && is_integer(format)),
      seed_(seed),
      steps_at_full_scale_(std::ldexp(1.0, bits(format) - 1)) {}

std::int32_t Quantiser::code(double sample, int channel, std::int64_t frame) const noexcept {
  double steps = sample * steps_at_full_scale_;
  if (dither_)
    steps += random_triangular(seed_, static_cast<std::uint64_t>(channel), static_cast<std::uint64_t>(frame));
  return static_cast<std::int32_t>(
      std::clamp(std::nearbyint(steps), -steps_at_full_scale_, steps_at_full_scale_ - 1.0));
}

namespace {

// Many side by side. What is held at the ends first rounds to the same; below 2^51 adding 1.5·2^52 rounds to
// the nearest step, ties to even.
WAVICON_WIDE void codes_of(const double* __restrict samples, double scale, double steps_at_full_scale,
                           std::int32_t* __restrict out, std::size_t count) {
  constexpr double kRounder = 6755399441055744.0;
  const double lowest = -steps_at_full_scale, highest = steps_at_full_scale - 1.0;
  for (std::size_t i = 0; i < count; ++i) {
    double steps = samples[i] * scale;
    steps = steps < lowest ? lowest : steps;
    steps = steps > highest ? highest : steps;
    out[i] = static_cast<std::int32_t>((steps + kRounder) - kRounder);
  }
}

// The dither of a channel's frames first, first + 1, …
WAVICON_WIDE void write_dither(std::uint64_t seed, std::uint64_t channel, std::uint64_t first, double* out,
                               std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) out[i] = random_triangular(seed, channel, first + i);
}

}  // namespace

void Quantiser::codes(std::span<const double> interleaved, int channel_count, std::int64_t first_frame,
                      std::span<std::int32_t> out) const noexcept {
  if (!dither_)
    return codes_of(interleaved.data(), steps_at_full_scale_, steps_at_full_scale_, out.data(),
                    interleaved.size());
  constexpr std::size_t kPiece = 256;
  std::array<double, kPiece> steps{};
  std::array<std::int32_t, kPiece> codes{};
  const auto channels = static_cast<std::size_t>(channel_count);
  for (std::size_t frame = 0; frame * channels < interleaved.size(); frame += kPiece)
    for (std::size_t c = 0; c < channels; ++c) {
      const std::size_t at = frame * channels + c;
      if (at >= interleaved.size()) break;
      const std::size_t count = std::min(kPiece, (interleaved.size() - at + channels - 1) / channels);
      write_dither(seed_, c, static_cast<std::uint64_t>(first_frame) + frame, steps.data(), count);
      for (std::size_t i = 0; i < count; ++i)
        steps[i] += interleaved[at + i * channels] * steps_at_full_scale_;
      codes_of(steps.data(), 1, steps_at_full_scale_, codes.data(), count);
      for (std::size_t i = 0; i < count; ++i) out[at + i * channels] = codes[i];
    }
}

double Quantiser::value(double sample, int channel, std::int64_t frame) const noexcept {
  if (format_ == SampleFormat::float64) return sample;
  if (format_ == SampleFormat::float32) return static_cast<double>(static_cast<float>(sample));
  return code(sample, channel, frame) / steps_at_full_scale_;
}

bool Quantiser::clips(double sample) const noexcept {
  // A tone of exactly 0 dBFS is the full scale, not a clipped signal, though the highest code is a step below
  // it.
  return is_integer(format_) && std::abs(sample) > 1.0 + 0.5 / steps_at_full_scale_;
}

}  // namespace wavicon
