// SPDX-License-Identifier: MIT
#pragma once
// Loudness after ITU-R BS.1770-4: K-weighted power, gated. Internal to `measure`.

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace wavicon::measure_detail {

/// A second-order section: y[n] = Σ b·x - Σ a·y.
struct Section {
  double b0 = 1, b1 = 0, b2 = 0, a1 = 0, a2 = 0;
};

/// The two sections of the K-weighting at a rate: those that the standard lists for 48 kHz, carried over so
/// that each keeps its response.
struct KWeighting {
  explicit KWeighting(double sample_rate_hz);
  Section shelf;
  Section low_cut;
};

/// Below this the shelf has no place.
inline constexpr double kLeastLoudnessRateHz = 4000;

/// What is remembered of a channel.
struct LoudnessChannel {
  double weight = 1;
  double before[2] = {}, shelved[2] = {}, cut[2] = {};  ///< the last two samples, and behind either section
  double power = 0;                                     ///< of this step
};

/// Collects the weighted power of all channels in steps of 0.1 s; all loudnesses come of these.
class LoudnessMeter {
 public:
  LoudnessMeter(int channel_count, double sample_rate_hz);
  /// @param planar  `length` samples for each channel, of which `count` from `from` on are taken; they cross
  /// no step.
  void add(std::span<const double> planar, std::size_t length, std::size_t from, std::size_t count);
  /// Takes the memory for so many steps.
  void reserve(std::size_t steps) { steps_.reserve(steps); }
  /// A step has ended.
  void end_step();

  /// Loudness of the last so many steps in LUFS, minus infinity for silence; none before as many have ended.
  [[nodiscard]] std::optional<double> of_last(std::size_t steps) const;
  /// Gated at -70 LUFS and 10 LU below what is left; none when nothing is louder.
  [[nodiscard]] std::optional<double> integrated_lufs() const;
  /// EBU Tech 3342: of 3 s, a second apart, between 10 and 95 of 100, gated at -70 LUFS and -20 LU.
  [[nodiscard]] std::optional<double> range_lu() const;

 private:
  [[nodiscard]] double mean_power(std::size_t end, std::size_t steps) const;

  KWeighting filter_;
  double step_frames_;
  std::vector<LoudnessChannel> channels_;
  std::vector<double> steps_;  // Σ of weighted squares of all channels
};

}  // namespace wavicon::measure_detail
