// SPDX-License-Identifier: MIT
#include "wavicon/measure/spectrogram/spectrogram.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

const ReadingTable& spectrogram_readings() {
  static const ReadingTable kTable = {"spectrogram",
                                      {
                                          {.name = "highest_dbfs",
                                           .unit = "dBFS",
                                           .words = "highest level",
                                           .digits = 2,
                                           .definition = "Level of the highest place of the picture.",
                                           .source = "amplitude of a sine in the window there",
                                           .gain = GainLaw::adds,
                                           .uncertainty = Owes::always,
                                           .conditions = {"resolution_hz", "window", "window_s",
                                                          "bandwidth_hz", "sample_rate_hz", "duration_s"}},
                                          {.name = "highest_s",
                                           .unit = "s",
                                           .words = "time of the highest level",
                                           .digits = 3,
                                           .definition = "Where in the capture that is.",
                                           .source = "middle of its column",
                                           .uncertainty = Owes::always,
                                           .conditions = {"resolution_hz", "window", "window_s",
                                                          "bandwidth_hz", "sample_rate_hz", "duration_s"}},
                                          {.name = "highest_hz",
                                           .unit = "Hz",
                                           .words = "frequency of the highest level",
                                           .digits = 1,
                                           .definition = "At which frequency that is.",
                                           .source = "middle of its row",
                                           .uncertainty = Owes::always,
                                           .conditions = {"resolution_hz", "window", "window_s",
                                                          "bandwidth_hz", "sample_rate_hz", "duration_s"}},
                                      }};
  return kTable;
}

}  // namespace wavicon
