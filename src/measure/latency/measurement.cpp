// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <exception>
#include <utility>

#include "measure/common/two_channels.hpp"
#include "wavicon/measure/latency/latency.hpp"

namespace wavicon {
namespace {

class Latency : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "reported",
             .target = &reported_,
             .sentence = "latency in samples that is reported: one for all, or one for each capture"},
            {.key = "block_sizes",
             .target = &block_frames_,
             .sentence = "at which the captures were taken, one for each"},
            {.key = "each_hit",
             .target = &each_hit_,
             .sentence = "time every sudden beginning of A by itself, whatever else sounds (of a row of hits "
                         "this is done anyway)"},
            {.key = "channels",
             .target = &channels_,
             .sentence = "which channel of A and which of B, from 1; of one file, source and return: 1,2",
             .range = Range{1, 1024},
             .count = 2}};
  }

  void check(const MeasureRequest& request) const override {
    const std::size_t count = request.capture_count;
    if (reported_.size() > 1 && reported_.size() != count)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("--reported gives {} values for {} captures: one, or one for each",
                              reported_.size(), count));
    if (!block_frames_.empty() && block_frames_.size() != count)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("--block-sizes gives {} values for {} captures", block_frames_.size(), count));
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& b,
                             std::size_t index) override {
    const JudgedCapture& a = request.reference ? *request.reference : b;
    LatencyOptions options{.each_hit = each_hit_};
    if (!reported_.empty())
      options.reported_samples = reported_.size() == 1 ? reported_.front() : reported_.at(index);
    else if (b.info().reported_samples)
      options.reported_samples = static_cast<double>(*b.info().reported_samples);
    const auto [of_a, of_b] = measure_detail::two_channels(request, b, channels_);
    options.a_channel = of_a;
    options.b_channel = of_b;
    Sheet sheet = channels_.empty() && !request.channel && request.reference
                      ? of_any_channel(a, b, options)
                      : sheet_of(measure_latency(a, b, options), a, b);
    if (!block_frames_.empty())
      for (Reading& reading : sheet.readings)
        reading.conditions.emplace_back("block_frames", block_frames_.at(index));
    return {std::move(sheet)};
  }

  std::vector<std::string> compare(const std::vector<Sheet>& sheets) const override {
    std::vector<double> latencies;
    for (const Sheet& sheet : sheets)
      if (const Reading* r = find_reading(sheet, "latency_samples", std::nullopt); r != nullptr && r->value)
        latencies.push_back(*r->value);
    if (latencies.size() < 2) return {};
    return {latency_verdict(latencies, block_frames_)};
  }

  Picture picture(const std::vector<Sheet>&, const std::string& word) const override {
    if (word == "hits")
      return {.style = {.names = {"latency of each hit"},
                        .title = "Latency of each hit",
                        .x_title = "time, s",
                        .y_title = "samples by which B comes later",
                        .points = true}};
    return {.kind = PictureKind::impulse_places};
  }

 private:
  [[nodiscard]] static Sheet sheet_of(const LatencyResult& result, const JudgedCapture& a,
                                      const JudgedCapture& b) {
    CaptureInfo from = a.info();
    from.file = measure_detail::channel_of_file(a, result.options.a_channel);
    return latency_sheet(result, from, b.info());
  }

  // Where the channel that comes first holds something else, the next one that holds A.
  [[nodiscard]] static Sheet of_any_channel(const JudgedCapture& a, const JudgedCapture& b,
                                            LatencyOptions options) {
    std::vector<int> order = {options.b_channel};
    for (int c = 0; c < b.channel_count(); ++c)
      if (c != options.b_channel && !measure_detail::is_silent(b, c)) order.push_back(c);
    std::exception_ptr first;
    for (const int channel : order) try {
        options.b_channel = channel;
        Sheet sheet = sheet_of(measure_latency(a, b, options), a, b);
        if (options.a_channel > 0 || channel > 0)
          sheet.findings.push_back(
              {Severity::note, FindingCode::detail,
               fmt::format("channel {} of A, channel {} of B: {}", options.a_channel + 1, channel + 1,
                           first ? "those before hold nothing of A" : "those before are silent"),
               std::nullopt});
        return sheet;
      } catch (const Error& error) {
        if (error.code() != ErrorCode::bad_input) throw;
        if (!first) first = std::current_exception();
      }
    std::rethrow_exception(first);
  }

  std::vector<double> reported_;
  std::vector<double> block_frames_;
  std::vector<int> channels_;
  bool each_hit_ = false;
};

}  // namespace

MeasurementDescriptor latency_measurement() {
  return {.name = "latency",
          .question = "how late is it, and which offset do I enter in the DAW?",
          .input = MeasuredInput::against,
          .tables = {latency_readings},
          .tolerated = {FindingCode::wrong_stimulus, FindingCode::cut_start, FindingCode::cut_end},
          .told = {FindingCode::polarity_inverted, FindingCode::clock_drift},
          .pictures = {{"waveforms", "A and B as they came and moved"},
                       {"hits", "of a row of hits, the latency of each over time"}},
          .draws_several = false,
          .of_one_file = true,
          .headline = {"latency_samples"},
          .deciding = {"latency_samples", "latency_ms", "reported_samples", "offset_samples",
                       "spread_samples", "drift_ppm", "worst_hit_samples", "hit_samples"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Latency>(); }};
}

}  // namespace wavicon
