// SPDX-License-Identifier: MIT
#include "wavicon/measure/clipping/clipping.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

const ReadingTable& clipping_readings() {
  static const ReadingTable kTable = {
      "clipping",
      {
          {.name = "gain_db",
           .unit = "dB",
           .words = "gain at low levels",
           .digits = 3,
           .definition = "Gain of a vanishing level.",
           .source = "line over the power of the lowest quarter",
           .gain = GainLaw::adds,
           .uncertainty = Owes::always,
           .conditions = {"at", "frequency_hz", "thd_percent", "compression_db", "sample_rate_hz"}},
          {.name = "clipping_point_dbfs",
           .unit = "dBFS",
           .words = "clipping point",
           .digits = 2,
           .definition = "Input level at which THD passes the figure, or the gain has fallen by it, "
                         "whichever comes first.",
           .source = "interpolated between the two levels around it",
           .misleads = "It depends on both figures: they are in the conditions.",
           .uncertainty = Owes::always,
           .better = Better::higher,
           .conditions = {"frequency_hz", "thd_percent", "compression_db", "sample_rate_hz"}},
          {.name = "clipping_at_s",
           .unit = "s",
           .words = "time at which it clips",
           .digits = 2,
           .definition = "First moment from which THD stays above the figure for 0.2 s.",
           .source = "frames of the tone",
           .uncertainty = Owes::always,
           .conditions = {"frequency_hz", "thd_percent", "compression_db", "sample_rate_hz"}},
          {.name = "clipping_output_dbfs",
           .unit = "dBFS",
           .words = "level out at the clipping point",
           .digits = 2,
           .definition = "Level of the tone that comes out there.",
           .source = "as clipping_point_dbfs",
           .gain = GainLaw::adds,
           .uncertainty = Owes::always,
           .conditions = {"frequency_hz", "thd_percent", "compression_db", "sample_rate_hz"}},
          {.name = "headroom_db",
           .unit = "dB",
           .words = "headroom",
           .digits = 2,
           .definition = "Clipping point over the alignment level.",
           .source = "difference in dB",
           .uncertainty = Owes::always,
           .better = Better::higher,
           .conditions = {"above_dbfs", "frequency_hz", "thd_percent", "compression_db", "sample_rate_hz"}},
          {.name = "ceiling_dbfs",
           .unit = "dBFS",
           .words = "highest sample",
           .digits = 2,
           .definition = "Level of the largest magnitude of a sample.",
           .source = "20·log10(max(abs(x)))",
           .gain = GainLaw::adds,
           .rate = RateLaw::other,
           .uncertainty = Owes::no,
           .conditions = {"means", "frequency_hz", "thd_percent", "compression_db", "sample_rate_hz"}},
      }};
  return kTable;
}

}  // namespace wavicon
