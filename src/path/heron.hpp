// SPDX-License-Identifier: MIT
#pragma once
// Heron, the stand-in for an audio interface with a cable from its output to its input: everything that its
// readings should say is a setting.

#include <cstdint>
#include <vector>

#include "wavicon/audio/fractional.hpp"

namespace wavicon::stand_in {

struct HeronSettings {
  double noise_dbfs = -110;     ///< RMS of white noise, full scale = 1, another on each channel; -200 is none
  double delay_samples = 0;     ///< true round trip, fractions allowed
  double reported_samples = 0;  ///< what its driver says
  double hum_dbfs = -200;  ///< peak of the first line of mains hum; the second lies 14 dB lower, the third 8
                           ///< dB; -200 is none
  double mains_hz = 50;
  double dc = 0;  ///< full scale = 1
  double drift_ppm =
      0;  ///< of its recording clock; a slower one (below 0) needs a delay of as many samples as it gains
  double gain_db = 0;
  double clip_dbfs = 0;
  double crosstalk_db = -200;  ///< of the other channels' sum; -200 is none
  double seed = 1;
  bool invert = false;
  double corner_hz = 0;  ///< of a low-pass of first order, before the noise; 0 is none
};

/// All channels at once.
class Heron {
 public:
  Heron(const HeronSettings& settings, double sample_rate_hz, int channel_count);
  void run(const float* const* in, float* const* out, int frames);
  [[nodiscard]] int channel_count() const noexcept { return static_cast<int>(history_.size()); }

 private:
  void read_delayed(std::size_t channel, int frames);

  HeronSettings settings_;
  double rate_;
  double gain_, noise_, clip_, crosstalk_;
  double lines_[3];
  bool whole_delay_;
  FractionalReader reader_;
  std::vector<std::vector<double>> history_;  ///< of each channel, from first_kept_ on
  std::int64_t first_kept_ = 0;
  std::int64_t frame_ = 0;
  std::vector<std::vector<double>> delayed_;
  double smooth_ = 1;  ///< of the low-pass; 1 is none
  std::vector<double> smoothed_;
};

}  // namespace wavicon::stand_in
