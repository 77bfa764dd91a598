// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <utility>

#include "measure/common/by_setting.hpp"
#include "measure/common/option_fields.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

int aliasing_rank(const PartKind& kind) {
  return std::holds_alternative<Sweep>(kind) ? 1 : std::holds_alternative<Staircase>(kind) ? 2 : -1;
}

class Aliasing : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {
        {.key = "orders",
         .target = &options_.highest_order,
         .sentence = "highest order that is capture, 2 to 120"},
        band_field(band_hz_, "FROM TO in Hz, of the folded products (default: 20 20000)"),
        {.key = "listening_level",
         .target = &options_.full_scale_spl_db,
         .sentence = "dB SPL at which full scale is assumed to play, for the hint on hearing"},
        {.key = "enough_dbc",
         .target = &enough_dbc_,
         .unit = "dBc",
         .sentence = "level in dBc that the worst product has to keep below: the first setting that does is "
                     "named",
         .range = Range{-200, 0}},
        {.key = "order",
         .target = &order_,
         .sentence = "captures by the number in their names, or as they are given",
         .words = {"setting", "given"}}};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t) override {
    if (!capture.played())
      throw Error(
          ErrorCode::bad_argument,
          "aliasing follows a sweep whose course is known: give --stimulus, made with marks, or the clean "
          "sweep as --reference");
    const auto part = choose_part(capture.stimulus(), request.selection.part, aliasing_rank);
    if (!part)
      throw Error(
          ErrorCode::bad_argument,
          "the stimulus has no part that is a sweep or a staircase; make one with 'wavicon make sweep'");
    AliasingOptions options = options_;
    take_band(band_hz_, options.band_from_hz, options.band_to_hz);
    const bool steps = std::holds_alternative<Staircase>(capture.stimulus().recipe().parts[*part].kind);
    Sheet sheet = steps ? by_steps(capture, *part, options) : by_sweep(capture, *part, options);
    // Where the sweep cannot tell, the stepped tones of the same capture may.
    if (!steps && request.selection.part.empty())
      if (const auto other = part_of_steps(capture.stimulus().recipe()); other && !tells_worst(sheet))
        tell_by_steps(sheet, by_steps(capture, *other, options), capture.stimulus().parts()[*other].name);
    return {std::move(sheet)};
  }

  std::vector<std::size_t> order(const std::vector<std::string>& files) const override {
    return order_ == "setting" ? order_by_setting(files) : Measurement::order(files);
  }

  void conclude(const MeasureRequest&, std::vector<Sheet>& sheets) override {
    if (!enough_dbc_ || sheets.size() != 1) return;
    if (std::string answer = aliasing_answer(sheets, *enough_dbc_); !answer.empty())
      sheets[0].findings.insert(sheets[0].findings.begin(),
                                {Severity::note, FindingCode::result, std::move(answer), std::nullopt});
  }

  std::string answer(const std::vector<Sheet>& sheets) const override {
    return enough_dbc_ && sheets.size() > 1 ? aliasing_answer(sheets, *enough_dbc_) : "";
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string&) const override {
    Picture picture{.style = {.names = {"worst fold-back"},
                              .title = "What folds back: the strongest product while the sweep passes",
                              .x_title = "frequency of the sweep, Hz",
                              .y_title = "relative to the fundamental, dBc",
                              .log_frequency = true,
                              .lowest_x = 300,
                              .shown_range = 200}};
    if (sheets.size() == 1) picture.style.names.push_back("strongest harmonic");
    if (enough_dbc_)
      picture.style.lines.push_back({*enough_dbc_, fmt::format("wanted: {:g} dBc", *enough_dbc_)});
    return picture;
  }

 private:
  static Sheet by_sweep(const JudgedCapture& capture, std::size_t part, const AliasingOptions& options) {
    Sheet sheet = aliasing_sheet(measure_aliasing(capture, part, options), capture.info());
    add_part(sheet, capture.stimulus().parts()[part].name);
    return sheet;
  }
  static Sheet by_steps(const JudgedCapture& capture, std::size_t part, const AliasingOptions& options) {
    Sheet sheet = aliasing_sheet(measure_aliasing_steps(capture, part, options), capture.info());
    add_part(sheet, capture.stimulus().parts()[part].name);
    return sheet;
  }
  // The first staircase of several frequencies.
  static std::optional<std::size_t> part_of_steps(const Recipe& recipe) {
    for (std::size_t i = 0; i < recipe.parts.size(); ++i)
      if (const auto* steps = std::get_if<Staircase>(&recipe.parts[i].kind);
          steps != nullptr && steps->frequencies_hz.size() > 1)
        return i;
    return std::nullopt;
  }

  AliasingOptions options_;
  std::vector<double> band_hz_;
  std::optional<double> enough_dbc_;
  std::string order_ = "setting";
};

}  // namespace

MeasurementDescriptor aliasing_measurement() {
  return {
      .name = "aliasing",
      .question = "does it alias: in which order, where, and how loud?",
      .tables = {aliasing_readings},
      .part_help = "name of the sweep or staircase to follow (default: the first sweep)",
      .pictures = {{"worst", "the strongest product while the sweep passes"}},
      .recognises = true,
      .by_reference = true,
      .part_use =
          [](const PartKind& kind) {
            return std::holds_alternative<Sweep>(kind)       ? PartUse::usual
                   : std::holds_alternative<Staircase>(kind) ? PartUse::possible
                                                             : PartUse::no;
          },
      .headline = {"worst_alias_dbc"},
      .deciding = {"worst_alias_dbc", "worst_alias_dbfs", "worst_alias_order", "worst_alias_hz",
                   "worst_alias_at_hz", "total_alias_dbc", "worst_harmonic_dbc", "residual_dbc", "alias_dbc"},
      .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Aliasing>(); }};
}

}  // namespace wavicon
