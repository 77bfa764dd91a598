// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>

#include "measure/common/option_fields.hpp"
#include "wavicon/measure/common/calibration.hpp"
#include "wavicon/measure/measurement.hpp"
#include "wavicon/measure/noise/noise.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

// Silence is what noise is measured in, else under a tone.
int rank(const PartKind& kind) {
  return std::holds_alternative<Silence>(kind) ? 1 : std::holds_alternative<Tone>(kind) ? 2 : 0;
}

class NoiseFloor : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {band_field(band_hz_, "FROM TO in Hz (default: 20 20000)"),
            {.key = "tone_hz",
             .target = &options_.tone_hz,
             .unit = "Hz",
             .sentence =
                 "tone in Hz to be cut out with its harmonics (default: the strongest, if one stands out)"},
            {.key = "keep_tone", .target = &options_.keep_tone, .sentence = "cut nothing out"},
            {.key = "reference_level_dbfs",
             .target = &options_.reference_dbfs,
             .unit = "dBFS",
             .sentence = "dBFS of the sine that the dynamic range refers to"},
            {.key = "calibrate",
             .target = &calibrate_,
             .sentence = "what a full-scale sine is: 0dBFS=2.45Vrms, 0dBFS=18dBu"}};
  }

  void check(const MeasureRequest&) const override {
    if (!calibrate_.empty()) (void)full_scale_vrms(calibrate_);
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t) override {
    const ChosenStretch stretch = stretch_of(request, capture);
    NoiseOptions options = options_;
    options.from_s = stretch.from_s;
    options.to_s = stretch.to_s;
    options.rms_reference = request.rms_reference;
    take_band(band_hz_, options.band_from_hz, options.band_to_hz);
    if (!calibrate_.empty()) options.full_scale_vrms = full_scale_vrms(calibrate_);
    auto part = stretch.part;
    if (!part && capture.played() && !capture.stimulus_recognised() && !request.selection.in_seconds() &&
        capture.stimulus().parts().size() == 1)
      part = 0;
    if (part && !options.tone_hz) {
      const PartKind& kind = capture.stimulus().recipe().parts[*part].kind;
      // The tone that was played is cut out even when it is weak; a line that stands out of silence is noise.
      if (const auto* tone = std::get_if<Tone>(&kind))
        options.played_tone_hz = tone->frequency_hz * capture.take().rate_ratio;
      if (std::holds_alternative<Silence>(kind)) options.keep_tone = true;
    }
    Sheet sheet = noise_sheet(measure_noise(capture, options), capture.info());
    add_part(sheet, stretch.what);
    return {std::move(sheet)};
  }

  // Quietest first.
  std::vector<std::string> compare(const std::vector<Sheet>& sheets) const override {
    std::vector<std::pair<double, std::string>> levels;
    for (const Sheet& sheet : sheets)
      for (const Reading& r : sheet.readings)
        if (r.name == "noise_dbfs" && r.value)
          levels.emplace_back(
              *r.value, sheet.capture.file +
                            (sheet.capture.channels > 1 ? fmt::format(" channel {}", *r.channel + 1) : ""));
    if (levels.empty()) return {};
    std::sort(levels.begin(), levels.end());
    std::string text = "quietest first: ";
    for (const auto& [level, name] : levels)
      text += fmt::format("{}{} ({:.1f} dBFS)", &name == &levels.front().second ? "" : ", ", name, level);
    return {text};
  }

  Picture picture(const std::vector<Sheet>&, const std::string& word) const override {
    if (word == "time")
      return {.style = {.names = {"noise"},
                        .title = "Noise over time",
                        .x_title = "time, s",
                        .y_title = "noise in the band, dBFS RMS",
                        .shown_range = 80}};
    return {.style = {.names = {"noise density"},
                      .title = "Noise density: tone and harmonics cut out, lines of hum left in",
                      .x_title = "frequency, Hz",
                      .y_title = "dBFS per root Hz, in bands of a 24th of an octave",
                      .log_frequency = true,
                      .lowest_x = 10,
                      .shown_range = 120}};
  }

 private:
  // Of what was recognised a pause alone: a tone may be hum.
  [[nodiscard]] static ChosenStretch stretch_of(const MeasureRequest& request, const JudgedCapture& capture) {
    if (!capture.stimulus_recognised() || !request.selection.part.empty())
      return choose_stretch(capture, request.selection, rank);
    const auto& parts = capture.stimulus().recipe().parts;
    const bool paused = std::any_of(parts.begin(), parts.end(), [](const RecipePart& part) {
      return std::holds_alternative<Silence>(part.kind);
    });
    return paused ? choose_stretch(capture, request.selection, rank)
                  : ChosenStretch{.from_s = request.selection.from_s, .to_s = request.selection.to_s};
  }

  NoiseOptions options_;
  std::vector<double> band_hz_;
  std::string calibrate_;
};

}  // namespace

MeasurementDescriptor noise_measurement() {
  return {.name = "noise",
          .question = "noise floor, weighted too, dynamic range, bits, mains hum, other lines",
          .tables = {noise_readings},
          .tolerated = {FindingCode::silent},
          .part_help = "measure this part of the stimulus (default: the first silence, else the first tone)",
          .pictures = {{"density", "noise density over frequency"}, {"time", "noise over time"}},
          .recognises = true,
          .part_use =
              [](const PartKind& kind) {
                return std::holds_alternative<Silence>(kind) ? PartUse::usual
                       : std::holds_alternative<Tone>(kind)  ? PartUse::possible
                                                             : PartUse::no;
              },
          .headline = {"noise_dbfs", "noise_a_dbfs"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<NoiseFloor>(); }};
}

}  // namespace wavicon
