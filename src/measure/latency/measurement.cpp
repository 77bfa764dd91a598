// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <utility>

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
             .sentence = "at which the captures were taken, one for each"}};
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
    const JudgedCapture& a = request.reference.value();
    LatencyOptions options;
    if (!reported_.empty())
      options.reported_samples = reported_.size() == 1 ? reported_.front() : reported_.at(index);
    else if (b.info().reported_samples)
      options.reported_samples = static_cast<double>(*b.info().reported_samples);
    if (request.channel) {
      options.b_channel = *request.channel;
      if (options.b_channel < a.channel_count()) options.a_channel = options.b_channel;
    }
    Sheet sheet = latency_sheet(measure_latency(a, b, options), a.info(), b.info());
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

  Picture picture(const std::vector<Sheet>&, const std::string&) const override {
    return {.kind = PictureKind::impulse_places};
  }

 private:
  std::vector<double> reported_;
  std::vector<double> block_frames_;
};

}  // namespace

MeasurementDescriptor latency_measurement() {
  return {.name = "latency",
          .question = "how late is it, and which offset do I enter in the recording program?",
          .input = MeasuredInput::against,
          .tables = {latency_readings},
          .tolerated = {FindingCode::wrong_stimulus, FindingCode::cut_start, FindingCode::cut_end},
          .told = {FindingCode::polarity_inverted, FindingCode::clock_drift},
          .pictures = {{"waveforms", "A and B as they came and moved"}},
          .draws_several = false,
          .headline = {"latency_samples"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Latency>(); }};
}

}  // namespace wavicon
