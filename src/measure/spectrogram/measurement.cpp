// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include "measure/common/option_fields.hpp"
#include "wavicon/measure/spectrogram/spectrogram.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

class Spectrogram : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "resolution_hz",
             .target = &options_.resolution_hz,
             .unit = "Hz",
             .sentence = "distance in Hz at which two tones come apart; finer is slower in time"},
            {.key = "overlap", .target = &options_.overlap, .sentence = "of neighbouring windows, 0 to 0.95"},
            {.key = "linear", .target = &linear_, .sentence = "linear frequency axis from 0 Hz"},
            band_field(band_hz_, "FROM TO in Hz (default: 20 Hz to half the rate)"),
            {.key = "orders",
             .target = &orders_,
             .sentence = "draw where the orders of a sweep run, up to this one, and their reflections",
             .range = Range{1, 100}}};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t) override {
    SpectrogramOptions options = options_;
    options.channel = request.channel.value_or(0);
    options.log_frequency = !linear_;
    if (linear_) options.low_hz = 0;
    take_band(band_hz_, options.low_hz, options.high_hz);
    std::string part;
    // A picture of a whole stimulus shows its marks as well; a part is shown alone.
    if (request.selection.in_seconds() || !request.selection.part.empty()) {
      const ChosenStretch stretch = choose_stretch(capture, request.selection, only_when_named);
      options.from_s = stretch.from_s;
      options.to_s = stretch.to_s;
      part = stretch.what;
    }
    Sheet sheet = measure_spectrogram(capture, options);
    if (capture.played())
      add_sweep_paths(sheet, capture.stimulus(), capture.take(), orders_);
    else if (orders_ > 1)
      throw Error(
          ErrorCode::bad_argument,
          "orders are drawn of a sweep that was found in the capture: nothing tells which stimulus it holds");
    add_part(sheet, part);
    return {std::move(sheet)};
  }

  Picture picture(const std::vector<Sheet>&, const std::string&) const override {
    return {.kind = PictureKind::level_map};
  }

 private:
  SpectrogramOptions options_;
  std::vector<double> band_hz_;
  bool linear_ = false;
  int orders_ = 1;
};

}  // namespace

MeasurementDescriptor spectrogram_measurement() {
  return {.name = "spectrogram",
          .question = "what sounds when, and at which frequency?",
          .tables = {spectrogram_readings},
          .part_help = "show this part of the stimulus alone",
          .pictures = {{"levels", "what sounds when, and at which frequency?"}},
          .draws_several = false,
          .headline = {"highest_dbfs"},
          .deciding = {"highest_dbfs", "highest_s", "highest_hz"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Spectrogram>(); }};
}

}  // namespace wavicon
