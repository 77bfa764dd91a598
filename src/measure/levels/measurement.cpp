// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include "measure/common/calibrations.hpp"
#include "measure/common/option_fields.hpp"
#include "wavicon/measure/levels/levels.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

class Levels : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "window_s",
             .target = &options_.window_s,
             .unit = "s",
             .sentence = "of the RMS over time, in seconds"},
            {.key = "hop_s",
             .target = &options_.hop_s,
             .unit = "s",
             .sentence = "of the RMS over time, in seconds"},
            {.key = "no_true_peak", .target = &no_true_peak_, .sentence = "leave out the true peak"},
            {.key = "no_loudness", .target = &no_loudness_, .sentence = "leave out loudness"},
            calibrations_.field()};
  }

  void check(const MeasureRequest& request) const override { calibrations_.check(request); }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t index) override {
    const ChosenStretch stretch = choose_stretch(capture, request.selection, only_when_named);
    LevelsOptions options = options_;
    options.full_scale_vrms = calibrations_.full_scale_vrms_of(index);
    options.from_s = stretch.from_s;
    options.to_s = stretch.to_s;
    options.true_peak = !no_true_peak_;
    options.loudness = !no_loudness_;
    options.rms_reference = request.rms_reference;
    Sheet sheet = levels_sheet(measure_levels(capture, options), capture.info());
    add_part(sheet, stretch.what);
    return {std::move(sheet)};
  }

  Picture picture(const std::vector<Sheet>&, const std::string& word) const override {
    if (word == "loudness")
      return {.style = {.names = {"short-term loudness", "momentary loudness"},
                        .title = "Loudness over time",
                        .x_title = "time, s",
                        .y_title = "loudness, LUFS",
                        .shown_range = 60}};
    if (word == "histogram")
      return {.style = {.names = {"loudness histogram"},
                        .title = "How often which momentary loudness",
                        .x_title = "momentary loudness, LUFS",
                        .y_title = "share of the time, %",
                        .steps = true}};
    return {.style = {.names = {"rms"},
                      .title = "RMS level over time",
                      .x_title = "time, s",
                      .y_title = "RMS level, dBFS",
                      .shown_range = 120}};
  }

 private:
  LevelsOptions options_;
  measure_detail::Calibrations calibrations_;
  bool no_true_peak_ = false;
  bool no_loudness_ = false;
};

}  // namespace

MeasurementDescriptor levels_measurement() {
  return {.name = "levels",
          .question = "how loud is it, how high are its peaks, and how do they move?",
          .tables = {levels_readings},
          .part_help = "measure this part of the stimulus alone (default: from the first to the last)",
          .pictures = {{"rms", "RMS level over time"},
                       {"loudness", "loudness over time"},
                       {"histogram", "how often which loudness"}},
          .part_use =
              [](const PartKind& kind) {
                return std::holds_alternative<Programme>(kind) ? PartUse::usual : PartUse::possible;
              },
          .headline = {"loudness_integrated_lufs", "rms_dbfs", "true_peak_dbtp"},
          .deciding = {"loudness_integrated_lufs", "rms_dbfs", "rms_v", "rms_dbu", "peak_dbfs", "peak_v",
                       "true_peak_dbtp", "crest_factor_db", "loudness_range_lu",
                       "loudness_momentary_max_lufs", "loudness_short_term_max_lufs", "dc_offset_dbfs"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Levels>(); }};
}

}  // namespace wavicon
