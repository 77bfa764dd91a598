// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <utility>

#include "measure/common/option_fields.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

int rank(const PartKind& kind) {
  return std::holds_alternative<Sweep>(kind) ? 1 : std::holds_alternative<Staircase>(kind) ? 2 : -1;
}

class Aliasing : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "orders",
             .target = &options_.highest_order,
             .sentence = "highest order that is followed, 2 to 120"},
            band_field(band_hz_, "FROM TO in Hz, of the folded products (default: 20 20000)"),
            {.key = "listening_level",
             .target = &options_.full_scale_spl_db,
             .sentence = "dB SPL at which full scale is assumed to play, for the hint on hearing"}};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t) override {
    const auto reference = request.inputs.find("reference");
    std::optional<Finding> found;
    const JudgedCapture followed = reference == request.inputs.end()
                                       ? capture
                                       : with_reference(request, reference->second, capture, found);
    if (!followed.played())
      throw Error(
          ErrorCode::bad_argument,
          "aliasing follows a sweep whose course is known: give --stimulus, made with marks, or the clean "
          "sweep as --reference");
    const auto part = choose_part(followed.stimulus(), request.selection.part, rank);
    if (!part)
      throw Error(
          ErrorCode::bad_argument,
          "the stimulus has no part that is a sweep or a staircase; make one with 'wavicon make sweep'");
    AliasingOptions options = options_;
    take_band(band_hz_, options.band_from_hz, options.band_to_hz);
    const bool steps = std::holds_alternative<Staircase>(followed.stimulus().recipe().parts[*part].kind);
    Sheet sheet = aliasing_sheet(
        steps ? measure_aliasing_steps(followed, *part, options) : measure_aliasing(followed, *part, options),
        capture.info());
    if (found) {
      for (Reading& reading : sheet.readings)
        reading.conditions.emplace_back("reference", reference->second.info().file);
      sheet.findings.push_back(*found);
    }
    add_part(sheet, followed.stimulus().parts()[*part].name);
    return {std::move(sheet)};
  }

  std::vector<std::string> compare(const std::vector<Sheet>& sheets) const override {
    return aliasing_verdicts(sheets);
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
    return picture;
  }

 private:
  // A sweep from elsewhere: what it is, as a stimulus, and where the capture holds it.
  static JudgedCapture with_reference(const MeasureRequest& request, const JudgedCapture& reference,
                                      const JudgedCapture& capture, std::optional<Finding>& finding) {
    if (reference.sample_rate_hz() != capture.sample_rate_hz())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} is at {:g} Hz: a reference needs the capture's sample rate",
                              reference.info().file, reference.sample_rate_hz()));
    const Recognition recognition = recognise(reference.source());
    const RecognisedPart* found = only_sweep(recognition);
    if (found == nullptr)
      throw Error(ErrorCode::bad_input,
                  fmt::format("{}: holds no clean sweep, exponential or linear, or several of them; 'wavicon "
                              "show' says what it holds",
                              reference.info().file));
    const auto& sweep = std::get<Sweep>(*found->written);
    const int channel = request.channel.value_or(0);
    const auto alignment = align(reference.source(), capture.source(),
                                 {.reference_channel = recognition.channel, .capture_channel = channel});
    if (!alignment)
      throw Error(ErrorCode::bad_input,
                  fmt::format("does not hold {}: too little in common", reference.info().file));
    for (const Slip& slip : alignment->slips)
      if (slip.before_frame > found->first_frame && slip.after_frame < found->first_frame + found->frames)
        throw Error(ErrorCode::bad_input,
                    fmt::format("{} of {}, within the sweep: capture it again with a larger buffer",
                                slips_text({slip}, reference.sample_rate_hz()), reference.info().file));
    Recipe recipe{
        .name = "reference", .sample_rate_hz = reference.sample_rate_hz(), .bits = 32, .marks = false};
    recipe.parts.push_back({.name = "sweep", .kind = sweep});
    Take take;
    take.channel = channel;
    take.frames_per_frame = alignment->frames_per_frame;
    take.first_frame =
        alignment->delay_frames + static_cast<double>(found->first_frame) * alignment->frames_per_frame;
    take.drift_ppm = alignment->drift_ppm;
    finding = {Severity::note, FindingCode::assumed_stimulus,
               fmt::format("the reference is {} sweep from {:.2f} Hz to {:.1f} Hz in {:.3f} s",
                           sweep.law == "log" ? "an exponential" : "a linear", sweep.from_hz, sweep.to_hz,
                           sweep.seconds),
               std::nullopt};
    return with_known(capture, {std::make_shared<Stimulus>(recipe), take});
  }

  AliasingOptions options_;
  std::vector<double> band_hz_;
};

}  // namespace

MeasurementDescriptor aliasing_measurement() {
  return {.name = "aliasing",
          .question = "what folds back: every order of a sweep followed past half the rate",
          .tables = {aliasing_readings},
          .part_help = "name of the sweep or staircase to follow (default: the first sweep)",
          .inputs = {{"reference", "the clean sweep that went in, when it was not made by Wavicon"}},
          .pictures = {{"worst", "the strongest product while the sweep passes"}},
          .recognises = true,
          .part_use =
              [](const PartKind& kind) {
                return std::holds_alternative<Sweep>(kind)       ? PartUse::usual
                       : std::holds_alternative<Staircase>(kind) ? PartUse::possible
                                                                 : PartUse::no;
              },
          .headline = {"worst_alias_dbc"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Aliasing>(); }};
}

}  // namespace wavicon
