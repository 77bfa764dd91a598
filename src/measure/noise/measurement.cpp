// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>

#include "measure/common/by_setting.hpp"
#include "measure/common/calibrations.hpp"
#include "measure/common/option_fields.hpp"
#include "measure/common/words.hpp"
#include "wavicon/measure/common/calibration.hpp"
#include "wavicon/measure/measurement.hpp"
#include "wavicon/measure/noise/noise.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

// Silence is what noise is measured in, else under a tone.
int noise_rank(const PartKind& kind) {
  return std::holds_alternative<Silence>(kind) ? 1 : std::holds_alternative<Tone>(kind) ? 2 : 0;
}

class NoiseFloor : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {
        {.key = "band_hz",
         .target = &bands_hz_,
         .unit = "Hz",
         .sentence = "FROM TO in Hz (default: 20 20000); repeatable: weighted levels and ratios are those of "
                     "the first",
         .count = 2,
         .repeatable = true},
        {.key = "tone_hz",
         .target = &options_.tone_hz,
         .unit = "Hz",
         .sentence =
             "tone in Hz to be cut out with its harmonics (default: the strongest, if one stands out)"},
        {.key = "keep_tone", .target = &options_.keep_tone, .sentence = "cut nothing out"},
        {.key = "reference_level",
         .target = &reference_level_,
         .sentence = "the sine that the dynamic range refers to: -20 (dBFS), 4V, 50mV, 4dBu, -10dBV"},
        calibrations_.field()};
  }

  void check(const MeasureRequest& request) const override {
    calibrations_.check(request);
    (void)level_dbfs_of(reference_level_, calibrations_.full_scale_vrms_of(0));
    if (bands_hz_.size() % 2 != 0) throw Error(ErrorCode::bad_argument, "a band is two frequencies, FROM TO");
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t index) override {
    const ChosenStretch stretch = stretch_of(request, capture);
    NoiseOptions options = options_;
    options.from_s = stretch.from_s;
    options.to_s = stretch.to_s;
    options.rms_reference = request.rms_reference;
    if (bands_hz_.size() >= 2) {
      options.band_from_hz = bands_hz_[0];
      options.band_to_hz = bands_hz_[1];
    }
    for (std::size_t i = 2; i + 1 < bands_hz_.size(); i += 2)
      options.more_bands_hz.emplace_back(bands_hz_[i], bands_hz_[i + 1]);
    options.full_scale_vrms = calibrations_.full_scale_vrms_of(index);
    options.reference_dbfs = level_dbfs_of(reference_level_, options.full_scale_vrms);
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
    std::vector<std::string> files;
    for (const Sheet& sheet : sheets) files.push_back(sheet.capture.file);
    const std::vector<std::string> names = measure_detail::setting_labels(files);
    std::vector<std::pair<double, std::string>> levels;
    for (std::size_t i = 0; i < sheets.size(); ++i) {
      const bool several =
          std::any_of(sheets[i].readings.begin(), sheets[i].readings.end(),
                      [](const Reading& r) { return r.name == "noise_dbfs" && r.channel.value_or(0) > 0; });
      for (const Reading& r : sheets[i].readings)
        if (r.name == "noise_dbfs" && r.value && is_first_of_its_channel(sheets[i], r))
          levels.emplace_back(*r.value,
                              names[i] + (several ? fmt::format(" channel {}", *r.channel + 1) : ""));
    }
    if (levels.empty()) return {};
    std::sort(levels.begin(), levels.end());
    std::string text = "quietest first: ";
    for (const auto& [level, name] : levels)
      text += fmt::format("{}{} ({:.1f} dBFS)", &name == &levels.front().second ? "" : ", ", name, level);
    return {text};
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const override {
    if (word == "time")
      return {.style = {.names = {"noise"},
                        .title = "Noise over time",
                        .x_title = "time, s",
                        .y_title = "noise in the band, dBFS RMS",
                        .shown_range = 80}};
    Picture picture{.style = {.names = {"noise density"},
                              .title = "Noise density: tone and harmonics cut out, lines of hum left in",
                              .x_title = "frequency, Hz",
                              .y_title = "dBFS per root Hz, in bands of a 24th of an octave",
                              .log_frequency = true,
                              .lowest_x = 10,
                              .shown_range = 120}};
    picture.style.lines_on_top = true;
    for (std::size_t i = 0; i < sheets.size(); ++i) add_lines(sheets[i], i, picture.style.marks);
    return picture;
  }

 private:
  // Hum and other lines, the strongest first, as many as can be read.
  static void add_lines(const Sheet& sheet, std::size_t place, std::vector<PlotMark>& marks) {
    constexpr std::size_t kMost = 4;
    std::vector<const Reading*> lines;
    for (const Reading& r : sheet.readings)
      if ((r.name == "mains_dbfs" || r.name == "spur_dbfs") && r.value && !r.bound) lines.push_back(&r);
    std::stable_sort(lines.begin(), lines.end(),
                     [](const Reading* a, const Reading* b) { return *a->value > *b->value; });
    for (std::size_t i = 0; i < std::min(kMost, lines.size()); ++i) {
      const ConditionValue* at = find_condition(*lines[i], "at_hz");
      const auto* hz = at == nullptr ? nullptr : std::get_if<double>(at);
      if (hz == nullptr) continue;
      const std::string where = measure_detail::hz_text(*hz, 4);
      marks.push_back({place, *hz, std::nullopt,
                       fmt::format("{}{}, {:.1f} dBFS", lines[i]->name == "mains_dbfs" ? "hum " : "", where,
                                   *lines[i]->value)});
    }
  }
  // Of several bands the first.
  static bool is_first_of_its_channel(const Sheet& sheet, const Reading& reading) {
    for (const Reading& r : sheet.readings)
      if (r.name == reading.name && r.channel == reading.channel) return &r == &reading;
    return false;
  }
  // Of what was recognised a pause alone: a tone may be hum.
  [[nodiscard]] static ChosenStretch stretch_of(const MeasureRequest& request, const JudgedCapture& capture) {
    if (!capture.stimulus_recognised() || !request.selection.part.empty())
      return choose_stretch(capture, request.selection, noise_rank);
    const auto& parts = capture.stimulus().recipe().parts;
    const bool paused = std::any_of(parts.begin(), parts.end(), [](const RecipePart& part) {
      return std::holds_alternative<Silence>(part.kind);
    });
    return paused ? choose_stretch(capture, request.selection, noise_rank)
                  : ChosenStretch{.from_s = request.selection.from_s, .to_s = request.selection.to_s};
  }

  NoiseOptions options_;
  std::vector<double> bands_hz_;
  std::string reference_level_ = "0";
  measure_detail::Calibrations calibrations_;
};

}  // namespace

MeasurementDescriptor noise_measurement() {
  return {.name = "noise",
          .question = "how loud is the noise, how many bits is that, and what hums?",
          .tables = {noise_readings},
          .tolerated = {FindingCode::silent},
          .part_help = "measure this part of the stimulus (default: the first silence, else the first tone)",
          .pictures = {{"density", "noise density over frequency"}, {"time", "noise over time"}},
          .recognises = true,
          .by_reference = true,
          .part_use =
              [](const PartKind& kind) {
                return std::holds_alternative<Silence>(kind) ? PartUse::usual
                       : std::holds_alternative<Tone>(kind)  ? PartUse::possible
                                                             : PartUse::no;
              },
          .headline = {"noise_dbfs", "noise_a_dbfs"},
          .deciding = {"noise_dbfs", "noise_dbu", "noise_uvrms", "noise_a_dbfs", "noise_a_dbu",
                       "noise_468_dbfs", "snr_db", "dynamic_range_db", "dynamic_range_bits", "effective_bits",
                       "over_{}_bit_db", "mains_dbfs", "spur_dbfs"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<NoiseFloor>(); }};
}

}  // namespace wavicon
