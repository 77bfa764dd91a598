// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <cmath>
#include <utility>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/takes/takes.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kBlockFrames = 16384;  // read and written at once

class Takes : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {
        {.key = "threshold_dbfs",
         .target = &options_.threshold_dbfs,
         .unit = "dBFS",
         .sentence = "level of 10 ms in dBFS under which it is a gap (default: found)"},
        {.key = "gap_s",
         .target = &options_.least_gap_s,
         .unit = "s",
         .sentence = "shortest silence in s that parts two takes (default: found)"},
        {.key = "above_hz",
         .target = &options_.above_hz,
         .unit = "Hz",
         .sentence = "from where on losses against the first take are told (default: their corner)"},
        {.key = "match", .target = &match_, .sentence = "what is made equal", .words = {"loudness", "rms"}}};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& recording,
                             std::size_t) override {
    TakesOptions options = options_;
    options.by_rms = match_ == "rms";
    const TakesResult result = measure_takes(recording, options);
    Sheet sheet = takes_sheet(result, recording.info());
    if (request.open_sink) write(request, recording.source(), result);
    return {std::move(sheet)};
  }

  std::optional<RowLayout> rows(const std::vector<Sheet>&) const override {
    return RowLayout{
        .heading = "take",
        .rows_by = "take",
        .columns = {"start_s", "end_s", "rms_dbfs", "loudness_integrated_lufs", "gain_db", "gap_noise_dbfs"},
        .column_condition = "matched_dbfs"};
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string&) const override {
    Picture picture{.style = {.title = "Takes at the loudness of the first",
                              .x_title = "frequency, Hz",
                              .y_title = "level in a third octave, dBFS",
                              .log_frequency = true,
                              .shown_range = 100}};
    for (const Curve& curve : sheets.front().curves)
      if (curve.x_unit == "Hz") picture.style.names.push_back(curve.name);
    return picture;
  }

 private:
  static void write(const MeasureRequest& request, AudioSource& source, const TakesResult& result) {
    const double rate = source.sample_rate_hz();
    std::vector<double> scratch(kBlockFrames * static_cast<std::size_t>(source.channel_count())), scaled;
    for (std::size_t i = 0; i < result.takes.size(); ++i) {
      const RecordedTake& take = result.takes[i];
      const auto sink =
          request.open_sink("write", fmt::format("take-{}", i + 1), {rate, source.channel_count(), ""});
      if (!sink) return;
      const double gain = ratio_from_db(take.gain_db);
      for_each_block(source, std::llround(take.start_s * rate), std::llround(take.end_s * rate), scratch,
                     [&](std::int64_t, std::span<const double> planar, std::int64_t) {
                       scaled.assign(planar.begin(), planar.end());
                       for (double& x : scaled) x *= gain;
                       sink->write(scaled);
                     });
      sink->finish();
    }
  }

  TakesOptions options_;
  std::string match_ = "loudness";
};

}  // namespace

MeasurementDescriptor takes_measurement() {
  return {.name = "takes",
          .question = "are these takes alike, once they are matched in loudness?",
          .input = MeasuredInput::recording,
          .tables = {takes_readings},
          .tolerated = {FindingCode::wrong_stimulus, FindingCode::cut_start, FindingCode::cut_end},
          .outputs = {{.name = "write",
                       .sentence = "folder for the takes as files, matched, 32-bit float",
                       .several = true}},
          .pictures = {{"spectra", "spectra of the takes"}},
          .headline = {"take_count"},
          .deciding = {"take_count", "corner_hz", "loss_db", "slope_db_per_octave"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Takes>(); }};
}

}  // namespace wavicon
