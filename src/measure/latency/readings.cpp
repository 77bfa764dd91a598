// SPDX-License-Identifier: MIT
#include "wavicon/measure/latency/latency.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

const ReadingTable& latency_readings() {
  static const ReadingTable kTable = {
      "latency",
      {
          {.name = "latency_samples",
           .unit = "samples",
           .words = "latency",
           .digits = 3,
           .definition = "Time of B after A, in samples of B.",
           .source = "phase of the matched filter's output, refined by Newton's method",
           .misleads = "Filters of minimum phase add their group delay: it is no error.",
           .rate = RateLaw::scales,
           .conditions = {"reference", "by", "sample_rate_hz"}},
          {.name = "latency_ms",
           .unit = "ms",
           .words = "latency",
           .digits = 4,
           .definition = "The same in milliseconds.",
           .source = "1000·samples/rate",
           .conditions = {"reference", "by", "sample_rate_hz"}},
          {.name = "spread_samples",
           .unit = "samples",
           .words = "spread of the latency",
           .digits = 4,
           .definition = "Standard deviation over the single estimates.",
           .source = "of marks, or of segments about their line",
           .rate = RateLaw::scales,
           .conditions = {"reference", "by", "sample_rate_hz"}},
          {.name = "polarity",
           .unit = "",
           .words = "polarity",
           .digits = 0,
           .definition = "1 when B is upright, -1 when it is inverted.",
           .source = "sign of the correlation's peak",
           .polarity = PolarityLaw::other,
           .uncertainty = Owes::no,
           .conditions = {"reference", "by", "sample_rate_hz"}},
          {.name = "drift_ppm",
           .unit = "ppm",
           .words = "clock drift",
           .digits = 3,
           .definition = "By how much B's clock runs fast against A's.",
           .source = "slope of the delay over time",
           .conditions = {"reference", "by", "sample_rate_hz"}},
          {.name = "reported_samples",
           .unit = "samples",
           .words = "latency reported",
           .digits = 1,
           .definition = "What the driver or program says.",
           .source = "as given, or as the capture carries it",
           .rate = RateLaw::scales,
           .uncertainty = Owes::no,
           .conditions = {"reference", "by", "sample_rate_hz"}},
          {.name = "offset_samples",
           .unit = "samples",
           .words = "offset to enter",
           .digits = 3,
           .definition = "Latency less what is reported.",
           .source = "latency_samples - reported_samples",
           .rate = RateLaw::scales,
           .conditions = {"reference", "by", "sample_rate_hz"}},
      }};
  return kTable;
}

}  // namespace wavicon
