#include <fmt/format.h>

#include "path/tern.hpp"
#include "schemes.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon::path_detail {
namespace {

UnitInfo tern_info() {
  UnitInfo info{"sim:tern", "Tern, a channel strip with drive", "Saltmarsh Audiobooks (stand-in)", 1, 1, {}};
  info.settings = {
      {.symbol = "drive", .name = "Drive", .unit = "dB", .minimum = 0, .maximum = 36},
      {.symbol = "asymmetry", .name = "Asymmetry", .minimum = 0, .maximum = 1},
      {.symbol = "oversampling",
       .name = "Oversampling",
       .minimum = 1,
       .maximum = 16,
       .default_value = 1,
       .integer = true,
       .choices_only = true,
       .choices = {{"1", 1}, {"2", 2}, {"4", 4}, {"8", 8}, {"16", 16}}},
      {.symbol = "output", .name = "Output trim", .unit = "dB", .minimum = -24, .maximum = 24},
  };
  return info;
}

class SimulatedTern : public Unit {
 public:
  explicit SimulatedTern(const UnitSpec& spec) : info_(tern_info()) {
    const auto values = setting_values(info_.name, info_.settings, spec);
    settings_ = {static_cast<float>(values[0]), static_cast<float>(values[1]), static_cast<int>(values[2]),
                 static_cast<float>(values[3])};
  }

  const UnitInfo& info() const noexcept override { return info_; }
  void prepare(double, int channel_count, int block_frames) override {
    channels_.assign(static_cast<std::size_t>(channel_count), stand_in::Tern(settings_));
    block_frames_ = block_frames;
  }
  int output_channel_count() const noexcept override { return static_cast<int>(channels_.size()); }
  void run(const float* const* inputs, float* const* outputs) override {
    for (std::size_t c = 0; c < channels_.size(); ++c) channels_[c].run(inputs[c], outputs[c], block_frames_);
  }
  std::int64_t latency_frames() const noexcept override {
    return channels_.empty() ? 0 : channels_[0].latency_frames();
  }

 private:
  UnitInfo info_;
  stand_in::TernSettings settings_;
  std::vector<stand_in::Tern> channels_;
  int block_frames_ = 0;
};

}  // namespace

std::unique_ptr<Unit> open_stand_in(const UnitSpec& spec) {
  if (spec.name == "tern") return std::make_unique<SimulatedTern>(spec);
  throw Error(ErrorCode::bad_argument,
              fmt::format("there is no stand-in '{}'{}", spec.name, name_hint(spec.name, {"tern"})));
}

std::vector<UnitListing> list_stand_ins() {
  const UnitInfo tern = tern_info();
  return {{tern.name, tern.title, tern.input_count, tern.output_count, ""}};
}

}  // namespace wavicon::path_detail
