// SPDX-License-Identifier: MIT
#pragma once
// Tern, the stand-in for a channel strip: its arithmetic, used by the simulated unit and by the LV2 plugin
// alike.
//
//   y = (arctan(g·x + a) - 0.99·arctan(a))·(1 + a²)/g · output,   g = 10^((drive - 12 dB)/20), a = asymmetry
//
// Small signals pass at unity gain. The hundredth of arctan(a) that stays is the slight DC error of an
// asymmetric stage. For a = 0 and a sine of peak A the harmonics are known in closed form: order k (odd) has
// 2·r^k/(k·g), r = (sqrt(1+(gA)²) - 1)/(gA).

#include <cstdint>
#include <span>
#include <vector>

namespace wavicon::stand_in {

/// Floats, as a plugin's controls are: the plugin and the stand-in compute with the same numbers.
struct TernSettings {
  float drive_db = 0;    ///< 0 … 36
  float asymmetry = 0;   ///< 0 … 1
  int oversampling = 1;  ///< 1, 2, 4, 8, 16
  float output_db = 0;   ///< -24 … +24
  bool naive = false;  ///< oversampling without filters: straight lines between the samples, and the mean of
                       ///< what was shaped on them
  friend bool operator==(const TernSettings&, const TernSettings&) = default;
};

/// One channel of Tern. Oversampling runs through linear-phase filters (Kaiser window, 100 dB) that pass up
/// to 0.45 of the rate within 0.001 dB and stop from half the rate on.
class Tern {
 public:
  /// Allocates. `settings` hold from the first sample on; the rate makes no difference to Tern.
  explicit Tern(const TernSettings& settings, double sample_rate_hz = 48000);

  /// New settings; allocates nothing unless the oversampling changes. A change of oversampling starts from
  /// silence.
  void set(const TernSettings& settings);

  /// Does not allocate or lock.
  void run(const float* in, float* out, int frames) noexcept;

  /// 0 without oversampling or when naive, else 128.
  [[nodiscard]] std::int64_t latency_frames() const noexcept;

 private:
  void build_filter();
  void shape(std::span<double> values) const noexcept;
  void run_block(std::span<const float> in, std::span<float> out) noexcept;
  void oversample(std::span<const float> in, std::span<float> out) noexcept;
  void oversample_naively(std::span<const float> in, std::span<float> out) noexcept;

  TernSettings settings_;
  double bias_ = 0;
  double gain_ = 1;
  double bias_out_ = 0;
  double scale_ = 1;
  std::vector<std::vector<double>> up_phases_;  ///< one filter per phase, latest sample first
  std::vector<double> down_;
  std::vector<double> in_;    ///< a block before what came before it, latest sample first
  std::vector<double> high_;  ///< the same of the higher rate
  std::vector<double> shaped_;
  double last_in_ = 0;
};

}  // namespace wavicon::stand_in
