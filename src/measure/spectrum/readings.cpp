// SPDX-License-Identifier: MIT
#include "wavicon/measure/spectrum/spectrum.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

const ReadingTable& spectrum_readings() {
  static const ReadingTable kTable = {
      "spectrum",
      {
          {.name = "line_dbfs",
           .unit = "dBFS",
           .words = "line",
           .digits = 2,
           .definition = "Peak level of a steady line, what is around it taken off.",
           .source = "lobe of the averaged spectrum",
           .misleads = "Two lines closer than the resolution read as one.",
           .gain = GainLaw::adds,
           .uncertainty = Owes::always,
           .conditions = {"at_hz", "likely", "resolution_hz", "averages", "window", "window_s",
                          "sample_rate_hz", "from_s", "duration_s"}},
          {.name = "band_dbfs",
           .unit = "dBFS",
           .words = "band level",
           .digits = 2,
           .definition = "RMS level in the band.",
           .source = "sum of the density with fractional bins at the edges, or lines of whole periods",
           .misleads = "Noise needs time: the spread is stated.",
           .gain = GainLaw::adds,
           .uncertainty = Owes::sometimes,
           .conditions = {"centre_hz", "spread_db", "rms_reference", "resolution_hz", "averages", "window",
                          "window_s", "sample_rate_hz", "from_s", "duration_s"}},
          {.name = "near_dc_dbfs",
           .unit = "dBFS",
           .words = "near 0 Hz",
           .digits = 2,
           .definition = "Level of what cannot be told from a constant at this resolution.",
           .source = "lobe at 0 Hz",
           .misleads = "It is DC only where nothing slow is there.",
           .gain = GainLaw::adds,
           .uncertainty = Owes::always,
           .conditions = {"bandwidth_hz", "resolution_hz", "averages", "window", "window_s", "sample_rate_hz",
                          "from_s", "duration_s"}},
          {.name = "below_20_hz_dbfs",
           .unit = "dBFS",
           .words = "below 20 Hz",
           .digits = 2,
           .definition = "RMS level from the width of a line beside 0 Hz up to 20 Hz.",
           .source = "sum of the density",
           .gain = GainLaw::adds,
           .uncertainty = Owes::always,
           .conditions = {"bandwidth_hz", "resolution_hz", "averages", "window", "window_s", "sample_rate_hz",
                          "from_s", "duration_s"}},
      }};
  return kTable;
}

}  // namespace wavicon
