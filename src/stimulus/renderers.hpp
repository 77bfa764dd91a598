// SPDX-License-Identifier: MIT
#pragma once
// What turns each kind of part into samples. Internal to `stimulus`.

#include <cstdint>
#include <memory>
#include <span>

#include "wavicon/stimulus/parts.hpp"

namespace wavicon::stimulus_detail {

/// Where pink noise starts when no band is given: its power has no end towards 0.
inline constexpr double kPinkFromHz = 10;

/// One part at one rate; frame 0 is its own first.
class Renderer {
 public:
  virtual ~Renderer() = default;
  [[nodiscard]] virtual std::int64_t frames() const = 0;
  /// Adds gain × samples first … first + out.size() - 1, all of which lie within the part.
  virtual void add(std::int64_t first, int channel, double gain, std::span<double> out) = 0;
};

[[nodiscard]] std::int64_t frames_of(double seconds, double sample_rate_hz);
/// Raised cosine rising over `length` frames, 1 from there on.
[[nodiscard]] double fade_gain(std::int64_t frame, std::int64_t length);

/// @param channel_count  of the recipe.
[[nodiscard]] std::unique_ptr<Renderer> make_renderer(const PartKind& kind, double sample_rate_hz,
                                                      int channel_count);
[[nodiscard]] std::unique_ptr<Renderer> make_noise(const Noise& noise, double sample_rate_hz,
                                                   int channel_count);
[[nodiscard]] std::unique_ptr<Renderer> make_programme(const Programme& programme, double sample_rate_hz);
[[nodiscard]] std::unique_ptr<Renderer> make_sweep(const Sweep& sweep, double sample_rate_hz);

}  // namespace wavicon::stimulus_detail
