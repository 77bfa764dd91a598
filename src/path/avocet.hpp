// SPDX-License-Identifier: MIT
#pragma once
// Avocet, the stand-in for an equaliser: a low cut of Butterworth's design, a bell, a high shelf, and a
// level. Every section is the analogue one brought to the sample rate by the bilinear transform, its own
// frequency kept (K = tan(π·f/rate)).

#include <cstdint>
#include <vector>

namespace wavicon::stand_in {

struct AvocetSettings {
  int cut_order = 0;  ///< 0 (off) … 4
  double cut_hz = 80;
  double bell_db = 0;
  double bell_hz = 3000;
  double bell_q = 1;
  double shelf_db = 0;  ///< first order, half of it at shelf_hz
  double shelf_hz = 8000;
  double level_db = 0;
  double lift = 0;  ///< part of the bell's boost that also lifts everything, 0 … 1
  friend bool operator==(const AvocetSettings&, const AvocetSettings&) = default;
};

/// One channel of Avocet. No latency.
class Avocet {
 public:
  Avocet(const AvocetSettings& settings, double sample_rate_hz);
  /// New settings; allocates, and starts from silence.
  void set(const AvocetSettings& settings);
  /// Does not allocate or lock.
  void run(const float* in, float* out, int frames) noexcept;
  [[nodiscard]] static std::int64_t latency_frames() noexcept { return 0; }

 private:
  struct Section {
    double b0 = 1, b1 = 0, b2 = 0, a1 = 0, a2 = 0;
    double s1 = 0, s2 = 0;  // transposed form
  };
  double rate_;
  std::vector<Section> sections_;
  double gain_ = 1;
};

}  // namespace wavicon::stand_in
