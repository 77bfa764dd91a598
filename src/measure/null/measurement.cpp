// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "measure/common/option_fields.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/sheet/short_names.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr std::int64_t kMostTaps = 1 << 20;  // of a filter from a file: 20 s at 48 kHz

// Writes planar blocks scaled, after silence up to the first frame of A.
class Trail {
 public:
  // @param item  the name of one of several, in a folder; empty: one file.
  Trail(const MeasureRequest& request, const char* output, const std::string& item, double rate, int channels,
        double gain)
      : gain_(gain), channels_(static_cast<std::size_t>(channels)) {
    if (request.open_sink)
      sink_ = request.open_sink(output, item.empty() ? "" : item + "-" + output,
                                {.sample_rate_hz = rate, .channel_count = channels, .description = ""});
  }
  void take(std::int64_t first_frame, std::span<const double> planar) {
    if (!sink_) return;
    if (std::exchange(first_, false) && first_frame > 0)
      sink_->write(std::vector<double>(static_cast<std::size_t>(first_frame) * channels_, 0.0));
    scaled_.assign(planar.begin(), planar.end());
    for (double& x : scaled_) x *= gain_;
    sink_->write(scaled_);
  }
  void finish() {
    if (sink_) sink_->finish();
  }

 private:
  std::unique_ptr<AudioSink> sink_;
  std::vector<double> scaled_;
  double gain_;
  std::size_t channels_;
  bool first_ = true;
};

class Null : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "delay_samples",
             .target = &options_.delay_samples,
             .unit = "samples",
             .sentence = "of A's first sample in B, in samples (default: found)"},
            {.key = "drift_ppm",
             .target = &options_.drift_ppm,
             .unit = "ppm",
             .sentence = "of B's clock against A's, in ppm (default: found)"},
            {.key = "gain_db",
             .target = &options_.gain_db,
             .unit = "dB",
             .sentence = "of B over A, in dB (default: found)"},
            {.key = "as_is",
             .target = &as_is_,
             .sentence = "delay, drift, gain, polarity: what is left unmatched"},
            {.key = "match_response",
             .target = &options_.response_taps,
             .sentence = "also match the linear response, by a filter of this many taps (64 to 2048)"},
            band_field(band_hz_, "FROM TO in Hz, of depth and verdict (default: everything)"),
            {.key = "resample",
             .target = &options_.resample,
             .sentence = "bring the file of the lower rate up to the other's"},
            {.key = "residual_gain_db",
             .target = &residual_gain_db_,
             .unit = "dB",
             .sentence = "dB by which the residual's file is raised",
             .range = Range{-200, 200}}};
  }

  void check(const MeasureRequest&) const override { (void)wanted({}); }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& b, std::size_t) override {
    const JudgedCapture& a = request.reference.value();
    NullOptions options = wanted(request.selection);
    std::vector<Finding> findings;
    if (const auto filter = request.inputs.find("filter"); filter != request.inputs.end())
      options.filter = taps_of(filter->second, a, findings);
    const double rate = std::max(a.sample_rate_hz(), b.sample_rate_hz());
    if (a.sample_rate_hz() != b.sample_rate_hz() && !options.resample)
      throw Error(
          ErrorCode::bad_argument,
          fmt::format("{} has {:g} Hz and {} has {:g} Hz; --resample brings the lower one up to the higher",
                      a.info().file, a.sample_rate_hz(), b.info().file, b.sample_rate_hz()));
    const int channels = std::max(a.channel_count(), b.channel_count());
    const std::string item = request.capture_count > 1 && request.open_sink ? item_of(request, b) : "";
    Trail residual(request, "residual", item, rate, channels, ratio_from_db(residual_gain_db_)),
        aligned(request, "aligned", item, rate, channels, 1);
    const NullResult result = measure_null(
        a, b, options, [&](std::int64_t first, std::span<const double> left, std::span<const double> moved) {
          residual.take(first, left);
          aligned.take(first, moved);
        });
    Sheet sheet = null_sheet(result, a.info(), b.info());
    residual.finish();
    aligned.finish();
    if (result.resampled_from_hz > 0)
      findings.push_back({Severity::note, FindingCode::limited_range,
                          fmt::format("{} was resampled from {:g} to {:g} Hz; compared up to {:g} Hz only",
                                      result.resampled_a ? "A" : "B", result.resampled_from_hz, rate,
                                      result.options.band_to_hz.value_or(result.band_to_hz)),
                          std::nullopt});
    sheet.findings.insert(sheet.findings.end(), findings.begin(), findings.end());
    return {std::move(sheet)};
  }

  void conclude(const MeasureRequest& request, std::vector<Sheet>&) override { pairs_ = request.pairs; }

  std::string answer(const std::vector<Sheet>& sheets) const override {
    return pairs_ ? null_pairs_answer(sheets) : "";
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const override {
    Picture picture{.style = {.names = {"residual", "programme"},
                              .title = "The residual, under what was compared",
                              .x_title = "frequency, Hz",
                              .y_title = "level in 1/12 octave, dBFS",
                              .log_frequency = true,
                              .shown_range = 200}};
    CurveStyle& style = picture.style;
    if (word == "time") {
      style.names = {"residual over time", "programme over time"};
      style.x_title = "time in A, s";
      style.y_title = "RMS, dBFS";
      style.log_frequency = false;
    } else if (word == "response") {
      style.names = {"B over A"};
      style.title = "The filter between A and B";
      style.y_title = "dB";
    } else if (word == "depth") {
      style.names = {"depth per third octave"};
      style.title = "How deep it nulls";
      style.y_title = "residual over programme, dB";
    }
    if (sheets.size() > 1) {
      style.once.assign(style.names.begin() + 1, style.names.end());
      style.names.resize(1);
      picture.answer = depths_of(sheets);
    }
    return picture;
  }

 private:
  // "what is left: run-1 -78.9 dB (noise), run-2 -47.4 dB (hum)".
  static std::string depths_of(const std::vector<Sheet>& sheets) {
    const ShortNames names = capture_names(sheets);
    std::string text;
    for (std::size_t i = 0; i < sheets.size(); ++i)
      for (const Reading& r : sheets[i].readings) {
        if (r.name != "null_depth_db" || !r.value) continue;
        const Reading* verdict = find_reading(sheets[i], "verdict", std::nullopt);
        text +=
            fmt::format("{}{} {}{:.1f} dB{}", text.empty() ? "what is left: " : ", ", names.spoken[i],
                        r.bound ? "< " : "", *r.value, verdict == nullptr ? "" : " (" + verdict->text + ")");
        break;
      }
    return text;
  }

  // The name of B without its folder and ending, of pairs behind that of A; with a number where it is taken.
  std::string item_of(const MeasureRequest& request, const JudgedCapture& b) {
    const std::string stem = request.pairs
                                 ? stem_of(request.reference->info().file) + "-" + stem_of(b.info().file)
                                 : stem_of(b.info().file);
    std::string item = stem;
    for (int n = 2; std::find(items_.begin(), items_.end(), item) != items_.end(); ++n)
      item = fmt::format("{}-{}", stem, n);
    items_.push_back(item);
    return item;
  }
  static std::string stem_of(const std::string& file) {
    const std::size_t slash = file.find_last_of('/'), begin = slash == std::string::npos ? 0 : slash + 1,
                      dot = file.find_last_of('.');
    return file.substr(begin, dot == std::string::npos || dot <= begin ? std::string::npos : dot - begin);
  }
  [[nodiscard]] NullOptions wanted(const Selection& selection) const {
    NullOptions options = options_;
    options.from_s = selection.from_s;
    options.to_s = selection.to_s;
    take_band(band_hz_, options.band_from_hz, options.band_to_hz);
    static const std::vector<std::string> kWhat = {"delay", "drift", "gain", "polarity"};
    for (const std::string& what : as_is_) {
      if (what == "delay" && !options.delay_samples)
        options.delay_samples = 0;
      else if (what == "drift" && !options.drift_ppm)
        options.drift_ppm = 0;
      else if (what == "gain" && !options.gain_db)
        options.gain_db = 0;
      else if (what == "polarity")
        options.polarity = 1;
      else
        throw Error(ErrorCode::bad_argument, fmt::format("--as-is '{}'{}", what, name_hint(what, kWhat)));
    }
    return options;
  }

  // A as it sounds through a filter that was written by `response --filter`.
  static std::vector<std::vector<double>> taps_of(const JudgedCapture& filter, const JudgedCapture& a,
                                                  std::vector<Finding>& findings) {
    const std::string& path = filter.info().file;
    if (filter.sample_rate_hz() != a.sample_rate_hz())
      throw Error(
          ErrorCode::bad_argument,
          fmt::format(
              "the filter {} is made for {:g} Hz and A has {:g} Hz: make it from captures at that rate", path,
              filter.sample_rate_hz(), a.sample_rate_hz()));
    const std::int64_t frames = filter.source().frames();
    if (frames > kMostTaps)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} has {} frames: no filter of at most {} taps", path, frames, kMostTaps));
    std::vector<std::vector<double>> taps;
    for (int c = 0; c < filter.channel_count(); ++c)
      taps.push_back(read_channel(filter.source(), c, 0, frames));
    findings.push_back(
        {Severity::note, FindingCode::detail,
         fmt::format("A went through {} ({} taps) before it was compared; a residual deeper than 70 dB "
                     "can be the filter's own error",
                     path, frames),
         std::nullopt});
    return taps;
  }

  NullOptions options_;
  std::vector<std::string> as_is_;
  std::vector<double> band_hz_;
  double residual_gain_db_ = 0;
  bool pairs_ = false;
  std::vector<std::string> items_;  // names of files that were given away
};

}  // namespace

MeasurementDescriptor null_measurement() {
  return {.name = "null",
          .question = "are two recordings the same, and if not, what is left?",
          .input = MeasuredInput::against,
          .tables = {null_readings},
          .tolerated = {FindingCode::wrong_stimulus, FindingCode::cut_start, FindingCode::cut_end},
          .told = {FindingCode::polarity_inverted, FindingCode::clock_drift},
          .inputs = {{"filter", "a filter for A, as 'wavicon response --filter' writes it"}},
          .outputs = {{.name = "residual",
                       .sentence = "write the residual, on A's time, as 32-bit float; of several B a folder",
                       .folder_of_several = true},
                      {.name = "aligned",
                       .sentence =
                           "write B on A's time and at A's level, to listen to both in turn; of several B "
                           "a folder",
                       .folder_of_several = true}},
          .pictures = {{"spectrum", "residual and programme over frequency"},
                       {"time", "residual and programme over time"},
                       {"depth", "depth per third octave"},
                       {"response", "the filter between A and B"}},
          .grid = {"null_depth_db", "verdict"},
          .headline = {"null_depth_db", "delay_samples", "gain_db"},
          .deciding = {"null_depth_db", "verdict", "residual_rms_dbfs", "delay_samples", "gain_db",
                       "drift_ppm", "coherent_percent", "mains_percent"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Null>(); }};
}

}  // namespace wavicon
