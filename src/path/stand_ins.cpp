#include <fmt/format.h>

#include "path/sandpiper.hpp"
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

UnitInfo sandpiper_info() {
  UnitInfo info{
      "sim:sandpiper", "Sandpiper, a link with faults", "Saltmarsh Audiobooks (stand-in)", 1, 1, {}};
  auto setting = [&](const char* symbol, const char* name, const char* unit, double low, double high,
                     double initial) {
    info.settings.push_back({.symbol = symbol,
                             .name = name,
                             .unit = unit,
                             .minimum = low,
                             .maximum = high,
                             .default_value = initial});
  };
  setting("drop_at", "Time of the dropout", "s", 0, 86400, 1);
  setting("drop", "Frames replaced by zeros", "frames", 0, 1e6, 0);
  setting("lose_at", "Time of the loss", "s", 0, 86400, 1);
  setting("lose", "Frames lost", "frames", 0, 1e6, 0);
  setting("repeat_at", "Time of the repetition", "s", 0, 86400, 1);
  setting("repeat", "Frames played twice", "frames", 0, 1e6, 0);
  setting("clip", "Level at which it clips; 24 is never", "dBFS", -60, 24, 24);
  setting("level", "Level", "dB", -80, 20, 0);
  setting("invert", "Polarity turned", "", 0, 1, 0);
  info.settings.back().toggle = true;
  for (const std::size_t counts : {1U, 3U, 5U}) info.settings[counts].integer = true;
  return info;
}

class SimulatedSandpiper : public Unit {
 public:
  explicit SimulatedSandpiper(const UnitSpec& spec) : info_(sandpiper_info()) {
    const auto v = setting_values(info_.name, info_.settings, spec);
    settings_ = {v[0], v[1], v[2], v[3], v[4], v[5], v[7], v[6], v[6]<24, v[8]> 0};
  }
  const UnitInfo& info() const noexcept override { return info_; }
  void prepare(double sample_rate_hz, int channel_count, int block_frames) override {
    channels_.assign(static_cast<std::size_t>(channel_count), stand_in::Sandpiper(settings_, sample_rate_hz));
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
  stand_in::SandpiperSettings settings_;
  std::vector<stand_in::Sandpiper> channels_;
  int block_frames_ = 0;
};

}  // namespace

std::unique_ptr<Unit> open_stand_in(const UnitSpec& spec) {
  if (spec.name == "tern") return std::make_unique<SimulatedTern>(spec);
  if (spec.name == "sandpiper") return std::make_unique<SimulatedSandpiper>(spec);
  throw Error(ErrorCode::bad_argument, fmt::format("there is no stand-in '{}'{}", spec.name,
                                                   name_hint(spec.name, {"tern", "sandpiper"})));
}

std::vector<UnitListing> list_stand_ins() {
  std::vector<UnitListing> list;
  for (const UnitInfo& info : {tern_info(), sandpiper_info()})
    list.push_back({info.name, info.title, info.input_count, info.output_count, ""});
  return list;
}

}  // namespace wavicon::path_detail
