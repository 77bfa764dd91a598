// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "measure/common/option_fields.hpp"
#include "measure/harmonics/harmonics_of.hpp"
#include "wavicon/measure/clipping/clipping.hpp"
#include "wavicon/sheet/short_names.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kLookedAtS = 10;  // of a tone turned up by hand: its start tells the frequency

// What climbs: a staircase, or one tone whose level rises.
int clipping_rank(const PartKind& kind) {
  const auto* tones = std::get_if<Multitone>(&kind);
  const bool ramp = tones != nullptr && tones->oscillators.size() == 1 && tones->oscillators[0].to_dbfs;
  return std::holds_alternative<Staircase>(kind) || ramp ? 1 : -1;
}

class Clipping : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "thd_percent",
             .target = &options_.thd_percent,
             .unit = "%",
             .sentence = "THD in % that counts as clipping"},
            {.key = "fall_db",
             .target = &options_.compression_db,
             .unit = "dB",
             .sentence = "fall of the gain in dB that counts as clipping"},
            {.key = "alignment_dbfs",
             .target = &options_.alignment_dbfs,
             .unit = "dBFS",
             .sentence = "level in dBFS that headroom counts from"},
            {.key = "tone_hz",
             .target = &tone_hz_,
             .unit = "Hz",
             .sentence = "frequency in Hz of a tone turned up by hand (default: the strongest)"}};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t) override {
    const bool whole = !request.selection.in_seconds() && !tone_hz_;
    if (capture.played() && whole)
      if (const auto part = choose_part(capture.stimulus(), request.selection.part, clipping_rank))
        return {clipping_sheet(measure_clipping(capture, *part, options_), capture.info())};
    ClippingOptions options = options_;
    const ChosenStretch stretch = choose_stretch(capture, request.selection, only_when_named);
    options.from_s = stretch.from_s;
    options.to_s = stretch.to_s;
    const double tone_hz = tone_hz_ ? *tone_hz_ : strongest_tone_hz(request, capture, options);
    Sheet sheet = clipping_sheet(measure_clipping_by_hand(capture, tone_hz, options), capture.info());
    sheet.findings.push_back(
        {Severity::note, FindingCode::assumed_stimulus,
         "no staircase or ramp is known to be in it: taken for a steady tone whose level somebody turns up",
         std::nullopt});
    add_part(sheet, stretch.what);
    return {std::move(sheet)};
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const override {
    const bool gain = word == "gain";
    const bool over_time = std::any_of(sheets.begin(), sheets.end(), [](const Sheet& s) {
      return std::none_of(s.curves.begin(), s.curves.end(), [](const Curve& c) { return c.name == "gain"; });
    });
    Picture picture{.style = {.names = {gain ? "gain" : "THD"},
                              .title = gain        ? "Gain over the level of the stimulus"
                                       : over_time ? "THD over time"
                                                   : "THD over the level of the stimulus",
                              .x_title = over_time ? "time, s" : "level in, dBFS",
                              .y_title = gain ? "dB" : "THD, dB",
                              .shown_range = 120}};
    for (std::size_t i = 0; i < sheets.size(); ++i)
      for (const Reading& r : sheets[i].readings)
        if (r.name == (over_time ? "clipping_at_s" : "clipping_point_dbfs") && r.value)
          picture.style.marks.push_back({i, *r.value, std::nullopt,
                                         over_time ? fmt::format("clips at {:.2f} s", *r.value)
                                                   : fmt::format("clips at {:.2f} dBFS", *r.value)});
    if (sheets.size() > 1 && !over_time) picture.answer = points_of(sheets);
    return picture;
  }

 private:
  // "clipping point: heron -3.94 dBFS, tern -7.29 dBFS".
  static std::string points_of(const std::vector<Sheet>& sheets) {
    const ShortNames names = capture_names(sheets);
    std::string text;
    for (std::size_t i = 0; i < sheets.size(); ++i)
      if (const Reading* r = find_reading(sheets[i], "clipping_point_dbfs", 0); r != nullptr && r->value)
        text += fmt::format("{}{} {:.2f} dBFS", text.empty() ? "clipping point: " : ", ", names.spoken[i],
                            *r->value);
    return text;
  }

  // Before the knob was turned.
  static double strongest_tone_hz(const MeasureRequest& request, const JudgedCapture& capture,
                                  const ClippingOptions& options) {
    const double rate = capture.sample_rate_hz();
    const auto from = static_cast<std::int64_t>(options.from_s * rate);
    const auto frames =
        std::min(static_cast<std::int64_t>(options.to_s.value_or(1e9) * rate), capture.source().frames()) -
        from;
    const auto found = harmonics_of(
        read_stretch(capture.source(), from, std::min(frames, static_cast<std::int64_t>(kLookedAtS * rate))),
        {}, SampleFormat::float64, 0);
    const ChannelHarmonics& channel =
        found.channels.at(static_cast<std::size_t>(request.channel.value_or(0)));
    if (channel.state != ChannelHarmonics::State::measured)
      throw Error(ErrorCode::bad_input,
                  "no steady tone is found in it: name its frequency by --tone, or send a staircase");
    return channel.fundamental_hz;
  }

  ClippingOptions options_;
  std::optional<double> tone_hz_;
};

}  // namespace

MeasurementDescriptor clipping_measurement() {
  return {
      .name = "clipping",
      .question = "at which level does it clip, and how hard?",
      .tables = {clipping_readings},
      .tolerated = {FindingCode::clipped},
      .told = {FindingCode::clipped_in_chain, FindingCode::over_between_samples},
      .part_help = "staircase or ramp of the stimulus to measure (default: the first)",
      .pictures = {{"thd", "THD"}, {"gain", "gain"}},
      .by_reference = true,
      .part_use =
          [](const PartKind& kind) {
            return clipping_rank(kind) < 0                   ? PartUse::no
                   : std::holds_alternative<Multitone>(kind) ? PartUse::usual
                                                             : PartUse::possible;
          },
      .headline = {"clipping_point_dbfs"},
      .deciding = {"clipping_point_dbfs", "clipping_output_dbfs", "headroom_db", "ceiling_dbfs", "gain_db"},
      .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Clipping>(); }};
}

}  // namespace wavicon
