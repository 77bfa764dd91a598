// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include "measure/common/played_against.hpp"
#include "wavicon/measure/waveforms/waveforms.hpp"

namespace wavicon {
namespace {

class Waveforms : public Measurement {
 public:
  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& b, std::size_t) override {
    const JudgedCapture& a = measure_detail::played_reference(request, b);
    return {waveforms_sheet(measure_waveforms(a, b, request.selection.part), a.info(), b.info())};
  }
  Picture picture(const std::vector<Sheet>&, const std::string&) const override {
    return {.kind = PictureKind::in_over_out};
  }
};

}  // namespace

MeasurementDescriptor waveforms_measurement() {
  return {
      .name = "waveforms",
      .question = "what becomes of each tone, period by period?",
      .input = MeasuredInput::against,
      .tables = {waveforms_readings},
      .part_help = "tone or staircase to look at (default: all of them)",
      .pictures = {{"periods", "periods as they went in and came out"}},
      .draws_several = false,
      .recognises = true,
      .headline = {"gain_db", "thd_db"},
      .deciding = {"gain_db", "delay_samples", "thd_db", "rest_db", "foreign_hz", "foreign_dbfs", "step_db"},
      .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Waveforms>(); }};
}

}  // namespace wavicon
