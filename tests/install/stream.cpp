// SPDX-License-Identifier: MIT
// A consumer that measures sound as it passes, and is refused what is unfit.

#include <cmath>
#include <iostream>
#include <vector>

#include "wavicon/measure/levels/levels.hpp"

namespace {

double level_of(double dropout_from) {
  wavicon::LevelMeter meter(1, 48000, {.true_peak = false});
  std::vector<double> block(480);
  for (int b = 0; b < 300; ++b) {
    for (int n = 0; n < 480; ++n) {
      const double t = (480 * b + n) / 48000.0;
      block[static_cast<std::size_t>(n)] =
          t > dropout_from && t < dropout_from + 0.005 ? 0 : 0.1 * std::sin(2 * 3.14159265358979 * 997 * t);
    }
    meter.push(block);
  }
  return *wavicon::find_reading(wavicon::levels_sheet(meter.finish(), {}), "rms_dbfs", 0)->value;
}

}  // namespace

int main() {
  std::cout << "RMS " << std::round(100 * level_of(99)) / 100 << " dBFS\n";
  try {
    (void)level_of(1.0003);  // not at a zero crossing: the sound is cut off
  } catch (const wavicon::UnfitCapture& unfit) {
    std::cout << "refused: " << wavicon::word_of(unfit.fault()) << '\n';
  }
}
