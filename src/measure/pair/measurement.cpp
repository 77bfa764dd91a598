// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <algorithm>
#include <utility>

#include "measure/common/two_channels.hpp"
#include "wavicon/measure/pair/pair.hpp"

namespace wavicon {
namespace {

class Pair : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "channels",
             .target = &channels_,
             .sentence = "which channel of A and which of B, from 1: 1,2",
             .range = Range{1, 1024},
             .count = 2}};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& b, std::size_t) override {
    const bool one_file = !request.reference;
    const JudgedCapture& a = one_file ? b : *request.reference;
    if (!one_file && request.channel)
      require_channel(request, std::min(a.channel_count(), b.channel_count()));
    const auto [of_a, of_b] = one_file || request.channel || !channels_.empty()
                                  ? measure_detail::two_channels(request, b, channels_)
                                  : measure_detail::TwoChannels{};
    const PairOptions options{.a_channel = of_a,
                              .b_channel = of_b,
                              .from_s = request.selection.from_s,
                              .to_s = request.selection.to_s};
    return {pair_sheet(measure_pair(a, b, options), b.info(), measure_detail::channel_of_file(a, of_a),
                       measure_detail::channel_of_file(b, of_b))};
  }

  Picture picture(const std::vector<Sheet>&, const std::string& word) const override {
    if (word == "levels")
      return {.style = {.names = {"A over time", "B over time"},
                        .title = "Level over time",
                        .x_title = "time, s",
                        .y_title = "RMS, dBFS"}};
    if (word == "loudness")
      return {.style = {.names = {"loudness of A", "loudness of B"},
                        .title = "How often it is how loud",
                        .x_title = "momentary loudness, LUFS",
                        .y_title = "share of the time, %",
                        .steps = true}};
    if (word == "spectrum" || word == "mid-side") {
      Picture picture{.style = {.names = {"A", "B"},
                                .title = "Levels in third octaves",
                                .x_title = "frequency, Hz",
                                .y_title = "dBFS",
                                .log_frequency = true}};
      if (word == "mid-side") picture.style.names = {"mid", "side", "A", "B"};
      return picture;
    }
    return {.kind = PictureKind::pair_overview};
  }

 private:
  std::vector<int> channels_;
};

}  // namespace

MeasurementDescriptor pair_measurement() {
  return {.name = "pair",
          .question = "how do two files, or two channels of one, relate in level, time and phase?",
          .input = MeasuredInput::pair,
          .tables = {pair_readings},
          .tolerated = {FindingCode::wrong_stimulus, FindingCode::cut_start, FindingCode::cut_end},
          .told = {FindingCode::polarity_inverted, FindingCode::channels_inverse},
          .pictures = {{"overview", "levels, phase and correlation"},
                       {"spectrum", "levels of A and B in third octaves"},
                       {"mid-side", "with mid and side"},
                       {"levels", "levels over time"},
                       {"loudness", "how often it is how loud"}},
          .draws_several = false,
          .headline = {"level_difference_db", "correlation", "time_offset_samples"},
          .deciding = {"level_difference_db", "loudness_difference_lu", "correlation", "time_offset_samples",
                       "mono_sum_loss_db", "phase_deg"},
          .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Pair>(); }};
}

}  // namespace wavicon
