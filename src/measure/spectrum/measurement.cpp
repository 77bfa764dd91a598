// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include "measure/common/calibrations.hpp"
#include "measure/common/option_fields.hpp"
#include "measure/common/words.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

class Spectrum : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {
        {.key = "resolution_hz",
         .target = &options_.resolution_hz,
         .unit = "Hz",
         .sentence = "distance in Hz at which two lines come apart"},
        {.key = "overlap", .target = &options_.overlap, .sentence = "of neighbouring windows, 0 to 0.95"},
        {.key = "averages",
         .target = &options_.averages,
         .sentence = "at most this many windows (default: all)"},
        {.key = "peak_hold", .target = &options_.peak_hold, .sentence = "also the highest value of each bin"},
        {.key = "density",
         .target = &options_.density,
         .sentence = "per root of a hertz instead of the level of a sine"},
        {.key = "remove_dc",
         .target = &options_.remove_dc,
         .sentence = "leave the hump at 0 Hz out of the curve"},
        {.key = "bands",
         .target = &options_.bands_per_octave,
         .sentence = "also levels in bands: 1, 3, 6, 12 or 24 per octave"},
        {.key = "peaks", .target = &options_.most_peaks, .sentence = "list at most this many lines"},
        {.key = "mid_side", .target = &options_.mid_side, .sentence = "mid and side of two channels"},
        {.key = "tone_hz",
         .target = &options_.tone_hz,
         .unit = "Hz",
         .sentence = "tone whose harmonics lines are named after (default: the strongest line)"},
        calibrations_.field()};
  }

  void check(const MeasureRequest& request) const override { calibrations_.check(request); }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t index) override {
    const ChosenStretch stretch = choose_stretch(capture, request.selection, only_when_named);
    SpectrumOptions options = options_;
    options.full_scale_vrms = calibrations_.full_scale_vrms_of(index);
    options.from_s = stretch.from_s;
    options.to_s = stretch.to_s;
    // Noise that repeats is read over its whole periods, and a stimulus of one part is that part.
    auto part = stretch.part;
    if (!part && capture.played() && !request.selection.in_seconds() &&
        capture.stimulus().parts().size() == 1)
      part = 0;
    if (part)
      if (const auto repeats =
              repeating_stretch(capture.stimulus(), *part, capture.take(), capture.sample_rate_hz())) {
        options.period_frames = repeats->period_frames;
        options.from_s = repeats->from_s;
        options.to_s = repeats->to_s;
      }
    Sheet sheet = spectrum_sheet(measure_spectrum(capture, options), capture.info());
    add_part(sheet, stretch.what);
    return {std::move(sheet)};
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string&) const override {
    const bool bands = options_.bands_per_octave > 0;
    Picture picture{.style = {.names = {bands ? "bands" : "spectrum"},
                              .title = bands ? "Levels in bands" : "Spectrum",
                              .x_title = "frequency, Hz",
                              .y_title = bands              ? "RMS level in the band, dBFS"
                                         : options_.density ? "dBFS per root Hz"
                                                            : "level of a sine, dBFS",
                              .log_frequency = true,
                              .lowest_x = 10,
                              .shown_range = bands ? 100.0 : 180.0}};
    if (options_.peak_hold && !bands) picture.style.names.push_back("peak hold");
    for (std::size_t i = 0; i < sheets.size() && !bands; ++i)
      for (const Reading& r : sheets[i].readings) {
        if (r.name != "line_dbfs" || !r.value || picture.style.marks.size() >= kMostMarks) continue;
        const ConditionValue *at = find_condition(r, "at_hz"), *likely = find_condition(r, "likely");
        const auto* hz = at == nullptr ? nullptr : std::get_if<double>(at);
        const auto* what = likely == nullptr ? nullptr : std::get_if<std::string>(likely);
        if (hz == nullptr) continue;
        const std::string where = measure_detail::hz_text(*hz, 4);
        // As a density a line stands elsewhere: on the curve.
        picture.style.marks.push_back(
            {i, *hz, options_.density ? std::nullopt : r.value,
             fmt::format("{} {}, {:.1f} dBFS", what == nullptr || *what == "line" ? "" : *what, where,
                         *r.value)});
      }
    return picture;
  }

 private:
  static constexpr std::size_t kMostMarks = 10;
  SpectrumOptions options_;
  measure_detail::Calibrations calibrations_;
};

}  // namespace

MeasurementDescriptor spectrum_measurement() {
  return {.name = "spectrum",
          .question = "which lines does it hold, what are they likely to be, and how loud is each band?",
          .tables = {spectrum_readings},
          .part_help = "measure this part of the stimulus alone (default: from the first to the last)",
          .pictures = {{"spectrum", "the spectrum, or levels in bands"}},
          .headline = {"line_dbfs"},
          .deciding = {"line_dbfs", "line_dbu", "band_dbfs", "band_dbu", "near_dc_dbfs", "below_20_hz_dbfs"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Spectrum>(); }};
}

}  // namespace wavicon
