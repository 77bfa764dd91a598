// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <string_view>
#include <utility>

#include "measure/common/by_setting.hpp"
#include "measure/common/option_fields.hpp"
#include "measure/common/played_against.hpp"
#include "wavicon/measure/dynamics/dynamics.hpp"
#include "wavicon/sheet/short_names.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kMostPanelMs = 1e5;  // a release of a hundred seconds

class Dynamics : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {
        {.key = "panel_attack_ms",
         .target = &attack_ms_,
         .unit = "ms",
         .sentence = "what the unit's panel says, in ms: one value, or one for each capture (5,10,20)",
         .range = Range{1e-6, kMostPanelMs}},
        {.key = "panel_release_ms",
         .target = &release_ms_,
         .unit = "ms",
         .sentence = "what the unit's panel says, in ms: one value, or one for each capture",
         .range = Range{1e-6, kMostPanelMs}},
        {.key = "like_panel_ms",
         .target = &like_ms_,
         .unit = "ms",
         .sentence = "what the other unit's panel said, one value for each capture of --like (default: the "
                     "numbers in their names)",
         .range = Range{0, kMostPanelMs}}};
  }

  void check(const MeasureRequest& request) const override {
    for (const auto& [values, name] :
         {std::pair{&attack_ms_, "--panel-attack"}, {&release_ms_, "--panel-release"}})
      if (values->size() > 1 && values->size() != request.capture_count)
        throw Error(
            ErrorCode::bad_argument,
            fmt::format("{} has {} values for {} capture{}: give one, or one for each", name, values->size(),
                        request.capture_count, request.capture_count == 1 ? "" : "s"));
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& b,
                             std::size_t index) override {
    const JudgedCapture& a = played_reference(request, b);
    if (index == 0) measure_like(request, a);
    const PanelValues panel{.attack_ms = of_capture(attack_ms_, index),
                            .release_ms = of_capture(release_ms_, index)};
    return {dynamics_sheet(measure_dynamics(a, b, request.selection.part), a.info(), b.info(), panel, like_)};
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const override {
    if (word == "gain") return {.kind = PictureKind::gain_and_wave};
    Picture picture{.style = {.title = "Level out over level in",
                              .x_title = "level in, dBFS",
                              .y_title = "level out, dBFS",
                              .shown_range = 120}};
    std::string wanted = "static curve";
    const bool attack = word.rfind("attack", 0) == 0;
    if (word == "attack" || word == "release") {
      wanted = word + " in ms";
      picture.style.title = attack ? "Gain after the step up, aligned at the step"
                                   : "Gain after the step down, aligned at the step";
      picture.style.x_title = "time after the step, ms";
      picture.style.y_title = "share of the change in dB, %";
      picture.style.lines = {{10, "10 %"}, {63.2, "63 %"}, {90, "90 %"}};
      picture.style.behind = "tone at the " + word;
      mark_times(sheets, word, picture);
    } else if (word == "attack-shape" || word == "release-shape") {
      wanted = attack ? "attack shape" : "release shape";
      picture.style.title =
          attack ? "Attacks brought to one time scale" : "Releases brought to one time scale";
      picture.style.x_title = "time over the time to 63 %";
      picture.style.y_title = "share of the change in dB, %";
    } else {
      mark_thresholds(sheets, picture);
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
  static const Reading* first_of(const Sheet& sheet, const std::string& name) {
    for (const Reading& r : sheet.readings)
      if (r.name == name && r.value && !r.bound) return &r;
    return nullptr;
  }

  // Where 90 % of the way are done, and the answer over all.
  static void mark_times(const std::vector<Sheet>& sheets, const std::string& word, Picture& picture) {
    constexpr double kBehind = 1.8;  // of the longest time to 90 %
    const ShortNames names = capture_names(sheets);
    double longest = 0;
    for (std::size_t i = 0; i < sheets.size(); ++i) {
      const Reading* r = first_of(sheets[i], word + "_90_ms");
      if (r == nullptr) continue;
      longest = std::max(longest, *r->value);
      const std::string time = fmt::format("{:.3g} ms", *r->value),
                        of = sheets.size() > 1 ? names.spoken[i] + " " : "";
      picture.style.marks.push_back({i, *r->value, 90.0, of + time});
      picture.answer += (picture.answer.empty() ? word + " to 90 %: " : ", ") + of + time;
    }
    picture.style.named_by_marks = sheets.size() > 1;
    picture.style.y_span = {-8.0, 108.0};
    if (longest > 0) picture.style.x_span = {-kShownBefore * longest, kBehind * longest};
  }

  static void mark_thresholds(const std::vector<Sheet>& sheets, Picture& picture) {
    for (std::size_t i = 0; i < sheets.size(); ++i) {
      const Reading *at = first_of(sheets[i], "threshold_dbfs"), *ratio = first_of(sheets[i], "ratio"),
                    *knee = first_of(sheets[i], "knee_db");
      if (at == nullptr) continue;
      std::string text = fmt::format("threshold {:.1f} dBFS", *at->value);
      if (ratio != nullptr) text += fmt::format(", ratio {:.3g}", *ratio->value);
      if (knee != nullptr) text += fmt::format(", knee {:.1f} dB", *knee->value);
      picture.style.marks.push_back({i, *at->value, std::nullopt, std::move(text)});
    }
  }

  static std::optional<double> of_capture(const std::vector<double>& values, std::size_t index) {
    if (values.empty()) return std::nullopt;
    return values[std::min(index, values.size() - 1)];
  }

  // The other unit, capture by capture, in the order of its panel.
  void measure_like(const MeasureRequest& request, const JudgedCapture& a) {
    like_ = {};
    const auto row = request.rows.find("like");
    if (row == request.rows.end() || row->second.empty()) return;
    std::vector<std::string> files;
    for (const JudgedCapture& one : row->second) files.push_back(one.info().file);
    if (files.size() < 2)
      throw Error(ErrorCode::bad_argument,
                  "--like takes at least two captures of the other unit, at two values of its panel");
    const std::vector<double> values = like_ms_.empty() ? setting_values(files) : like_ms_;
    if (values.size() != files.size())
      throw Error(ErrorCode::bad_argument,
                  like_ms_.empty()
                      ? "the names of --like do not differ in one number alone: say by --like-panel what the "
                        "panel said for each of them"
                      : fmt::format("--like-panel has {} values for {} captures of --like", values.size(),
                                    files.size()));
    like_.name = name_of_other(files);
    for (std::size_t i = 0; i < files.size(); ++i) {
      require_placed(a, row->second[i]);
      like_.rungs.push_back({values[i], measure_dynamics(a, row->second[i], request.selection.part)});
    }
    std::stable_sort(like_.rungs.begin(), like_.rungs.end(),
                     [](const LikeRung& p, const LikeRung& q) { return p.panel_ms < q.panel_ms; });
  }

  // "plover" of "plover-attack-5.wav" and "plover-attack-10.wav".
  static std::string name_of_other(const std::vector<std::string>& files) {
    std::string name = shared_name(files);
    for (const std::string_view word : {"attack", "release", "ms"})
      if (name.size() > word.size() && name.compare(name.size() - word.size(), word.size(), word) == 0 &&
          std::isalnum(static_cast<unsigned char>(name[name.size() - word.size() - 1])) == 0)
        name.resize(name.size() - word.size() - 1);
    return name.empty() ? "the other unit" : name;
  }

  std::vector<double> attack_ms_, release_ms_, like_ms_;
  LikeLadder like_;
};

}  // namespace

MeasurementDescriptor dynamics_measurement() {
  return {
      .name = "dynamics",
      .question = "what do threshold, ratio, attack and release really mean here?",
      .input = MeasuredInput::against,
      .tables = {dynamics_readings},
      .part_help = "measure this staircase or block alone (default: all of them)",
      .inputs = {{.name = "like",
                  .sentence = "captures of another unit at several values of its attack or release: says at "
                              "which of them it is as fast as B",
                  .row = true}},
      .pictures = {{"static", "the static curve"},
                   {"gain", "the gain over time"},
                   {"attack", "attacks in milliseconds after the step"},
                   {"release", "releases in milliseconds after the step"},
                   {"attack-shape", "attacks on one time scale"},
                   {"release-shape", "releases on one time scale"}},
      .all_parts_at_once = true,
      .recognises = true,
      .part_use =
          [](const PartKind& kind) {
            return std::holds_alternative<Staircase>(kind) || std::holds_alternative<LevelBlock>(kind)
                       ? PartUse::usual
                       : PartUse::no;
          },
      .headline = {"threshold_dbfs", "ratio", "attack_90_ms", "release_90_ms"},
      .deciding = {"threshold_dbfs",   "ratio",
                   "knee_db",          "makeup_db",
                   "reduction_max_db", "thd_db",
                   "detector",         "attack_63_ms",
                   "attack_90_ms",     "attack_equivalent_ms",
                   "attack_like_ms",   "attack_fast_ms",
                   "attack_slow_ms",   "overshoot_db",
                   "hold_ms",          "release_63_ms",
                   "release_90_ms",    "release_equivalent_ms",
                   "release_like_ms",  "release_fast_ms",
                   "release_slow_ms"},
      .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Dynamics>(); }};
}

}  // namespace wavicon
