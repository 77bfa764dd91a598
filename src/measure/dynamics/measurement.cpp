// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "measure/common/option_fields.hpp"
#include "measure/common/played_against.hpp"
#include "wavicon/measure/dynamics/dynamics.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kMostPanelMs = 1e5;  // a release of a hundred seconds

class Dynamics : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "panel_attack_ms",
             .target = &panel_.attack_ms,
             .unit = "ms",
             .sentence = "what the unit's panel says, in ms",
             .range = Range{1e-6, kMostPanelMs}},
            {.key = "panel_release_ms",
             .target = &panel_.release_ms,
             .unit = "ms",
             .sentence = "what the unit's panel says, in ms",
             .range = Range{1e-6, kMostPanelMs}}};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& b, std::size_t) override {
    const JudgedCapture& a = played_reference(request, b);
    return {dynamics_sheet(measure_dynamics(a, b, request.selection.part), a.info(), b.info(), panel_)};
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const override {
    if (word == "gain") return {.kind = PictureKind::gain_and_wave};
    Picture picture{.style = {.title = "Level out over level in",
                              .x_title = "level in, dBFS",
                              .y_title = "level out, dBFS",
                              .shown_range = 120}};
    std::string wanted = "static curve";
    if (word == "attack" || word == "release") {
      wanted = word + " shape";
      picture.style.title =
          word == "attack" ? "Attacks brought to one time scale" : "Releases brought to one time scale";
      picture.style.x_title = "time over the time to 63 %";
      picture.style.y_title = "share of the change in dB, %";
    }
    auto& names = picture.style.names;
    for (const Sheet& sheet : sheets)
      for (const Curve& curve : sheet.curves)
        if (curve.name.rfind(wanted, 0) == 0 &&
            std::find(names.begin(), names.end(), curve.name) == names.end())
          names.push_back(curve.name);
    return picture;
  }

 private:
  PanelValues panel_;
};

}  // namespace

MeasurementDescriptor dynamics_measurement() {
  return {
      .name = "dynamics",
      .question = "threshold, ratio, knee, attack and release of B against A, from a staircase and a block",
      .input = MeasuredInput::against,
      .tables = {dynamics_readings},
      .part_help = "measure this staircase or block alone (default: all of them)",
      .pictures = {{"static", "the static curve"},
                   {"gain", "the gain over time"},
                   {"attack", "attacks on one time scale"},
                   {"release", "releases on one time scale"}},
      .all_parts_at_once = true,
      .recognises = true,
      .part_use =
          [](const PartKind& kind) {
            return std::holds_alternative<Staircase>(kind) || std::holds_alternative<LevelBlock>(kind)
                       ? PartUse::usual
                       : PartUse::no;
          },
      .headline = {"threshold_dbfs", "ratio", "attack_90_ms", "release_90_ms"},
      .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Dynamics>(); }};
}

}  // namespace wavicon
