// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "measure/common/option_fields.hpp"
#include "measure/common/words.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/response/response.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kLongestRecognisedS = 120;  // of a signal that is looked through for a sweep

int response_rank(const PartKind& kind) {
  if (std::holds_alternative<Sweep>(kind)) return 1;
  if (std::holds_alternative<Noise>(kind)) return 2;
  if (std::holds_alternative<Programme>(kind)) return 3;
  return std::holds_alternative<Multitone>(kind) ? 4 : -1;
}

class Response : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "smoothing",
             .target = &options_.smoothing,
             .sentence = "N for 1/N octave, 1 to 48 (default: none)"},
            {.key = "at_hz",
             .target = &options_.reference_hz,
             .unit = "Hz",
             .sentence = "frequency of gain_db, in Hz"},
            band_field(band_hz_, "FROM TO in Hz, of the ripple (default: 100 10000)"),
            {.key = "difference",
             .target = &difference_,
             .sentence = "also the curve that would bring the first capture to each of the others"}};
  }

  void check(const MeasureRequest& request) const override {
    if (wants_difference(request) && request.capture_count < 2)
      throw Error(ErrorCode::bad_argument, "a difference takes two captures: response A B1 B2 --difference");
    if (request.open_sink && request.capture_count != 2)
      throw Error(ErrorCode::bad_argument,
                  "a filter leads from one capture to another: response A B1 B2 --filter FILE");
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& b, std::size_t) override {
    const JudgedCapture& a = *request.reference;
    ResponseOptions options = options_;
    options.cache = &cache_;
    take_band(band_hz_, options.band_from_hz, options.band_to_hz);
    if (request.selection.in_seconds() || !request.selection.part.empty() || a.played()) {
      const ChosenStretch stretch = choose_stretch(a, request.selection, response_rank);
      if (stretch.part && !b.played() && !request.selection.part.empty())
        throw Error(
            ErrorCode::bad_input,
            fmt::format("the stimulus of {} is not found in it: where the part '{}' lies is not known",
                        a.info().file, stretch.what));
      // Where a filter has taken the marks away, what both hold decides.
      if (stretch.part && b.played()) {
        options =
            response_options(a.stimulus(), *stretch.part, a.take(), b.take(), a.sample_rate_hz(), options);
      } else if (stretch.part &&
                 std::holds_alternative<Sweep>(a.stimulus().recipe().parts[*stretch.part].kind)) {
        // Its marks are gone from B: where it lies in A is known all the same.
        options =
            response_options(a.stimulus(), *stretch.part, a.take(), a.take(), a.sample_rate_hz(), options);
        options.alignment.reset();
      } else if (request.selection.in_seconds()) {
        options.from_s = stretch.from_s;
        options.to_s = stretch.to_s;
      }
    }
    if (!options.alignment && !options.sweep && !request.selection.in_seconds()) aim_at_sweep(a, options);
    results_.push_back(measure_response(a, b, options));
    Sheet sheet = response_sheet(results_.back(), a.info(), b.info());
    return {std::move(sheet)};
  }

  void conclude(const MeasureRequest& request, std::vector<Sheet>& sheets) override {
    for (std::size_t i = 1; i < sheets.size(); ++i) {
      if (wants_difference(request)) add_difference(sheets[0], sheets[i]);
      add_crossover(results_[i - 1], results_[i], sheets[i - 1], sheets[i]);
    }
    if (request.open_sink && results_.size() == 2) write_filter(request, sheets);
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const override {
    if (word == "phase")
      return {.style = {.names = {"phase"},
                        .title = "Phase of B against A, the common delay taken off",
                        .x_title = "frequency, Hz",
                        .y_title = "degrees",
                        .log_frequency = true,
                        .half_turn = 180}};
    if (word == "group-delay")
      return {.style = {.names = {"group delay"},
                        .title = "Group delay beside the common delay",
                        .x_title = "frequency, Hz",
                        .y_title = "ms",
                        .log_frequency = true,
                        .shown_range = 1000}};
    if (word == "impulse")
      return {.style = {.names = {"impulse response"},
                        .title = "Response over time",
                        .x_title = "time after the common delay, ms",
                        .y_title = "full scale = 1",
                        .shown_range = 100}};
    if (word == "difference")
      return {.style = {.names = {"difference"},
                        .title = fmt::format("Curve that would bring {} to each",
                                             last_part(sheets.front().capture.file)),
                        .x_title = "frequency, Hz",
                        .y_title = "dB",
                        .log_frequency = true,
                        .shown_range = 80}};
    if (word == "coherence")
      return {.style = {.names = {"coherence"},
                        .title = "Coherence",
                        .x_title = "frequency, Hz",
                        .y_title = "0 to 1",
                        .log_frequency = true}};
    Picture picture{.style = {.names = {"magnitude"},
                              .title = "Response: B over A",
                              .x_title = "frequency, Hz",
                              .y_title = "dB",
                              .log_frequency = true,
                              .shown_range = 80}};
    for (std::size_t i = 0; i < sheets.size(); ++i) mark_shapes(sheets[i], i, picture.style.marks);
    return picture;
  }

 private:
  // Edges, humps and shelves where they are.
  static void mark_shapes(const Sheet& sheet, std::size_t place, std::vector<PlotMark>& marks) {
    for (const Reading& r : sheet.readings) {
      if (!r.value) continue;
      const auto beside = [&](const char* name) { return find_reading(sheet, name, r.channel); };
      std::string text;
      if (r.name == "lower_edge_hz" || r.name == "upper_edge_hz") {
        const ConditionValue* at = find_condition(r, "at_db");
        const auto* db = at == nullptr ? nullptr : std::get_if<double>(at);
        if (db != nullptr && *db != -3) continue;
        text = "-3 dB at " + measure_detail::hz_text(*r.value, 4);
        const Reading* slope = beside("slope_db_per_octave");
        if (slope != nullptr && slope->value)
          text += fmt::format(", {:.0f} dB/octave", std::abs(*slope->value));
      } else if (const Reading* height = beside("bell_db"); r.name == "bell_hz" && height && height->value) {
        text = fmt::format("{:+.1f} dB at {}", *height->value, measure_detail::hz_text(*r.value, 4));
      } else if (const Reading* step = beside("shelf_db"); r.name == "shelf_hz" && step && step->value) {
        text = fmt::format("shelf {:+.1f} dB, {}", *step->value, measure_detail::hz_text(*r.value, 4));
      } else {
        continue;
      }
      marks.push_back({place, *r.value, std::nullopt, std::move(text)});
    }
  }

  // A file's name without its folders.
  static std::string last_part(const std::string& file) { return file.substr(file.find_last_of('/') + 1); }

  [[nodiscard]] bool wants_difference(const MeasureRequest& request) const {
    return difference_ || request.picture == "difference";
  }

  // A sweep from elsewhere is divided as a whole, too.
  static void aim_at_sweep(const JudgedCapture& a, ResponseOptions& options) {
    if (a.seconds() >= kLongestRecognisedS) return;
    const Recognition found = recognise(a.source());
    const RecognisedPart* part = only_sweep(found);
    if (part == nullptr) return;
    const auto& sweep = std::get<Sweep>(*part->written);
    options.sweep = true;
    options.sweep_from_hz = sweep.from_hz;
    options.sweep_to_hz = sweep.to_hz;
    options.from_s = static_cast<double>(part->first_frame) / a.sample_rate_hz();
    options.to_s = options.from_s + sweep.seconds;
  }

  void write_filter(const MeasureRequest& request, std::vector<Sheet>& sheets) const {
    const auto filters = matching_filters(results_[0], results_[1]);
    const auto sink = request.open_sink("filter", "",
                                        {results_[0].sample_rate_hz, static_cast<int>(filters.size()),
                                         "filter, middle tap at the middle frame"});
    if (!sink) return;
    std::vector<double> planar;
    for (const auto& taps : filters) planar.insert(planar.end(), taps.begin(), taps.end());
    sink->write(planar);
    sink->finish();
    sheets.back().findings.push_back(
        {Severity::note, FindingCode::output_written,
         fmt::format("the filter of {} taps that brings {} here is written; 'wavicon null --filter' takes it",
                     filters[0].size(), sheets.front().capture.file),
         std::nullopt});
  }

  ResponseOptions options_;
  std::vector<double> band_hz_;
  bool difference_ = false;
  ResponseCache cache_;
  std::vector<ResponseResult> results_;
};

}  // namespace

MeasurementDescriptor response_measurement() {
  return {.name = "response",
          .question = "which curve is it, and how much louder did it get overall?",
          .input = MeasuredInput::against,
          .tables = {response_readings},
          .tolerated = {FindingCode::wrong_stimulus, FindingCode::cut_start, FindingCode::cut_end},
          .told = {FindingCode::polarity_inverted, FindingCode::clock_drift},
          .part_help = "part of the stimulus to use (default: the first sweep, else the first noise)",
          .outputs = {{.name = "filter",
                       .sentence =
                           "write the filter that brings the first capture to the second, for null --filter",
                       .one_capture = false}},
          .pictures = {{"magnitude", "magnitude over frequency"},
                       {"phase", "phase over frequency"},
                       {"group-delay", "group delay over frequency"},
                       {"impulse", "response over time"},
                       {"coherence", "coherence over frequency"},
                       {"difference", "the curve that would bring the first capture to the others"}},
          .part_use =
              [](const PartKind& kind) {
                const int at = response_rank(kind);
                return at == 1 || at == 2 ? PartUse::usual : at == 3 ? PartUse::possible : PartUse::no;
              },
          .headline = {"gain_db", "ripple_db", "lower_edge_hz", "upper_edge_hz"},
          .deciding = {"gain_db",
                       "broadband_db",
                       "loudness_change_lu",
                       "ripple_db",
                       "lower_edge_hz",
                       "upper_edge_hz",
                       "slope_db_per_octave",
                       "bell_hz",
                       "bell_db",
                       "bell_q",
                       "shelf_hz",
                       "shelf_db",
                       "crossover_hz",
                       "crossover_db",
                       "crossover_sum_db",
                       "crossover_inverted_db",
                       "notch_db",
                       "difference_max_db",
                       "crosstalk_max_db",
                       "crosstalk_db",
                       "balance_max_db",
                       "balance_db"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Response>(); }};
}

}  // namespace wavicon
