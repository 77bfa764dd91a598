// SPDX-License-Identifier: MIT
#include "wavicon/measure/waveforms/waveforms.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

const ReadingTable& waveforms_readings() {
  static const ReadingTable kTable = {
      "waveforms",
      {
          {.name = "gain_db",
           .unit = "dB",
           .words = "gain of the tone",
           .digits = 3,
           .definition = "Level of the tone in B over that in A.",
           .source = "weighted least squares on the tone and its orders",
           .gain = GainLaw::adds,
           .conditions = {"frequency_hz", "reference", "level_dbfs", "sample_rate_hz"}},
          {.name = "delay_samples",
           .unit = "samples",
           .words = "delay of the tone",
           .digits = 3,
           .definition = "Beside the common delay, within half a period.",
           .source = "phase of the tone",
           .polarity = PolarityLaw::other,
           .rate = RateLaw::scales,
           .conditions = {"means", "frequency_hz", "reference", "level_dbfs", "sample_rate_hz"}},
          {.name = "thd_db",
           .unit = "dB",
           .words = "THD",
           .digits = 2,
           .definition = "Root sum of squares of B's harmonics over its tone.",
           .source = "orders up to 10 below half the rate",
           .rate = RateLaw::other,
           .floor = Owes::later,
           .conditions = {"frequency_hz", "reference", "level_dbfs", "sample_rate_hz"}},
          {.name = "rest_db",
           .unit = "dB",
           .words = "what neither tone nor harmonic explains",
           .digits = 2,
           .definition = "Everything else in B over A's tone.",
           .source = "RMS over RMS",
           .gain = GainLaw::other,
           .conditions = {"means", "frequency_hz", "reference", "level_dbfs", "sample_rate_hz"}},
          {.name = "foreign_hz",
           .unit = "Hz",
           .words = "strongest foreign line",
           .digits = 1,
           .definition = "Line of B that belongs neither to the tone nor to its harmonics.",
           .source = "highest line of the residual's spectrum",
           .conditions = {"frequency_hz", "reference", "level_dbfs", "sample_rate_hz"}},
          {.name = "foreign_dbfs",
           .unit = "dBFS",
           .words = "level of the foreign line",
           .digits = 2,
           .definition = "Its peak level.",
           .source = "amplitude of the line",
           .gain = GainLaw::adds,
           .conditions = {"frequency_hz", "reference", "level_dbfs", "sample_rate_hz"}},
      }};
  return kTable;
}

}  // namespace wavicon
