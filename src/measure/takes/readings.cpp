// SPDX-License-Identifier: MIT
#include "wavicon/measure/takes/takes.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

const ReadingTable& takes_readings() {
  static const ReadingTable kTable = {
      "takes",
      {
          {.name = "take_count",
           .unit = "",
           .words = "takes",
           .digits = 0,
           .definition = "How many takes there are.",
           .source = "stretches above the threshold, parted by silences",
           .uncertainty = Owes::no,
           .conditions = {"threshold_dbfs", "least_gap_s", "matched_by", "sample_rate_hz"}},
          {.name = "start_s",
           .unit = "s",
           .words = "start of the take",
           .digits = 2,
           .definition = "Where the take begins in the recording.",
           .source = "first 10 ms above the threshold",
           .conditions = {"take", "threshold_dbfs", "least_gap_s", "matched_by", "sample_rate_hz"}},
          {.name = "end_s",
           .unit = "s",
           .words = "end of the take",
           .digits = 2,
           .definition = "Where it ends.",
           .source = "last 10 ms above the threshold",
           .conditions = {"take", "threshold_dbfs", "least_gap_s", "matched_by", "sample_rate_hz"}},
          {.name = "rms_dbfs",
           .unit = "dBFS",
           .words = "RMS level of the take",
           .digits = 2,
           .definition = "RMS level as recorded.",
           .source = "20·log10(rms), full scale = 1",
           .gain = GainLaw::adds,
           .conditions = {"take", "threshold_dbfs", "least_gap_s", "matched_by", "sample_rate_hz"}},
          {.name = "loudness_integrated_lufs",
           .unit = "LUFS",
           .words = "loudness of the take",
           .digits = 2,
           .definition = "Integrated loudness as recorded.",
           .source = "ITU-R BS.1770, EBU R 128",
           .gain = GainLaw::other,
           .conditions = {"take", "threshold_dbfs", "least_gap_s", "matched_by", "sample_rate_hz"}},
          {.name = "gain_db",
           .unit = "dB",
           .words = "gain that matches the take",
           .digits = 2,
           .definition = "Gain that brings it to the first take.",
           .source = "difference of loudness, or of RMS",
           .gain = GainLaw::other,
           .conditions = {"take", "threshold_dbfs", "least_gap_s", "matched_by", "sample_rate_hz"}},
          {.name = "gap_noise_dbfs",
           .unit = "dBFS",
           .words = "noise after the take",
           .digits = 2,
           .definition = "RMS level in the gap after it, DC taken off.",
           .source = "quietest stretches of the gap",
           .gain = GainLaw::adds,
           .conditions = {"take", "matched_dbfs", "threshold_dbfs", "least_gap_s", "matched_by",
                          "sample_rate_hz"}},
      }};
  return kTable;
}

}  // namespace wavicon
