// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <cmath>

#include "path/avocet.hpp"
#include "path/curlew.hpp"
#include "path/heron.hpp"
#include "path/plover.hpp"
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
      {.symbol = "naive", .name = "Oversampling without filters", .minimum = 0, .maximum = 1, .toggle = true},
  };
  return info;
}

// A stand-in's arithmetic as a unit, one copy of it for each channel.
template <typename Arithmetic, typename Settings>
class Simulated : public Unit {
 public:
  Simulated(UnitInfo info, const Settings& settings, double claimed_rate_hz = 0)
      : info_(std::move(info)), settings_(settings), claimed_rate_hz_(claimed_rate_hz) {}

  const UnitInfo& info() const noexcept override { return info_; }
  void prepare(double sample_rate_hz, int channel_count, int block_frames) override {
    channels_.assign(static_cast<std::size_t>(channel_count), Arithmetic(settings_, sample_rate_hz));
    block_frames_ = block_frames;
  }
  int output_channel_count() const noexcept override { return static_cast<int>(channels_.size()); }
  void run(const float* const* inputs, float* const* outputs) override {
    for (std::size_t c = 0; c < channels_.size(); ++c) channels_[c].run(inputs[c], outputs[c], block_frames_);
  }
  double claimed_rate_hz() const noexcept override { return claimed_rate_hz_; }
  std::int64_t latency_frames() const noexcept override {
    return channels_.empty() ? 0 : channels_[0].latency_frames();
  }

 private:
  UnitInfo info_;
  Settings settings_;
  double claimed_rate_hz_;
  std::vector<Arithmetic> channels_;
  int block_frames_ = 0;
};

std::unique_ptr<Unit> open_tern(const UnitSpec& spec) {
  const UnitInfo info = tern_info();
  const auto v = setting_values(info.name, info.settings, spec);
  const stand_in::TernSettings settings{static_cast<float>(v[0]), static_cast<float>(v[1]),
                                        static_cast<int>(v[2]), static_cast<float>(v[3]), v[4] > 0};
  return std::make_unique<Simulated<stand_in::Tern, stand_in::TernSettings>>(info, settings);
}

constexpr double kAhead = 48;  // samples that reading between samples looks ahead

SettingInfo number(const char* symbol, const char* name, const char* unit, double low, double high,
                   double initial) {
  return {.symbol = symbol,
          .name = name,
          .unit = unit,
          .minimum = low,
          .maximum = high,
          .default_value = initial};
}

// As a plugin's controls hold them, so that plugin and stand-in compute with the same numbers.
std::vector<double> floats(std::vector<double> values) {
  for (double& v : values) v = static_cast<double>(static_cast<float>(v));
  return values;
}

UnitInfo heron_info() {
  UnitInfo info{"sim:heron",
                "Heron, an audio interface with a cable from output to input",
                "Saltmarsh Audiobooks (stand-in)",
                0,
                0,
                {}};
  info.settings = {
      number("noise", "Noise, RMS; -200 is none", "dBFS", -200, 0, -110),
      number("delay", "True round trip", "samples", 0, 1e6, 261.4),
      number("reports", "Round trip that its driver reports", "samples", 0, 1e6, 0),
      number("hum", "First line of mains hum, peak; -200 is none", "dBFS", -200, 0, -200),
      number("mains", "Mains frequency", "Hz", 40, 70, 50),
      number("dc", "Offset, full scale = 1", "", -1, 1, 0),
      number("drift", "Its recording clock against its playing one", "ppm", -300, 300, 0),
      number("gain", "Gain", "dB", -60, 60, 0),
      number("clip", "Level at which it clips", "dBFS", -60, 24, 0),
      number("crosstalk", "Of the other channels; -200 is none", "dB", -200, 0, -200),
      number("seed", "Of the noise", "", 0, 1e9, 1),
      number("buffers", "Blocks of the session that the round trip also takes", "blocks", 0, 16, 0)};
  info.settings[2].integer = info.settings[10].integer = info.settings[11].integer = true;
  return info;
}

// All channels at once: they cross-talk.
class HeronUnit : public Unit {
 public:
  HeronUnit(UnitInfo info, const stand_in::HeronSettings& settings, double buffers = 0)
      : info_(std::move(info)), settings_(settings), buffers_(buffers) {}
  const UnitInfo& info() const noexcept override { return info_; }
  void prepare(double sample_rate_hz, int channel_count, int block_frames) override {
    stand_in::HeronSettings settings = settings_;
    settings.delay_samples += buffers_ * block_frames;
    heron_ = std::make_unique<stand_in::Heron>(settings, sample_rate_hz, channel_count);
    block_frames_ = block_frames;
  }
  int output_channel_count() const noexcept override { return heron_ ? heron_->channel_count() : 0; }
  void run(const float* const* inputs, float* const* outputs) override {
    heron_->run(inputs, outputs, block_frames_);
  }
  std::int64_t latency_frames() const noexcept override {
    return static_cast<std::int64_t>(settings_.reported_samples);
  }

 private:
  UnitInfo info_;
  stand_in::HeronSettings settings_;
  double buffers_;
  std::unique_ptr<stand_in::Heron> heron_;
  int block_frames_ = 0;
};

std::unique_ptr<Unit> open_heron(const UnitSpec& spec) {
  const UnitInfo info = heron_info();
  const auto v = setting_values(info.name, info.settings, spec);
  if (v[1] != std::floor(v[1]) && v[1] < kAhead)
    throw Error(
        ErrorCode::bad_argument,
        fmt::format(
            "{}: delay={} is a fraction and below {}: what lies between samples needs samples that have not "
            "come yet",
            info.name, v[1], kAhead));
  return std::make_unique<HeronUnit>(
      info, stand_in::HeronSettings{v[0], v[1], v[2], v[3], v[4], v[5], v[6], v[7], v[8], v[9], v[10]},
      v[11]);
}

UnitInfo dunlin_info() {
  UnitInfo info{"sim:dunlin", "Dunlin, a cable run", "Saltmarsh Audiobooks (stand-in)", 0, 0, {}};
  info.settings = {
      number("gain", "Gain", "dB", -60, 60, 0),
      number("delay", "Delay", "samples", 0, 1e6, 0),
      number("invert", "Polarity turned", "", 0, 1, 0),
      number("hum", "First line of mains hum that it picks up, peak; -200 is none", "dBFS", -200, 0, -200),
      number("mains", "Mains frequency", "Hz", 40, 70, 50),
      number("noise", "Noise, RMS; -200 is none", "dBFS", -200, 0, -200),
      number("seed", "Of the noise", "", 0, 1e9, 1),
      number("treble", "Corner of the treble that a long run loses; 0 is none", "Hz", 0, 384000, 0)};
  info.settings[2].toggle = true;
  info.settings[6].integer = true;
  return info;
}

// A cable does what an interface does, less the converters.
std::unique_ptr<Unit> open_dunlin(const UnitSpec& spec) {
  const UnitInfo info = dunlin_info();
  const auto v = setting_values(info.name, info.settings, spec);
  // A run shorter than what reading between samples looks ahead is made longer, and that reported as latency.
  const double ahead = v[1] != std::floor(v[1]) ? kAhead : 0;
  return std::make_unique<HeronUnit>(info, stand_in::HeronSettings{.noise_dbfs = v[5],
                                                                   .delay_samples = v[1] + ahead,
                                                                   .reported_samples = ahead,
                                                                   .hum_dbfs = v[3],
                                                                   .mains_hz = v[4],
                                                                   .gain_db = v[0],
                                                                   .clip_dbfs = 120,
                                                                   .seed = v[6],
                                                                   .invert = v[2] > 0,
                                                                   .corner_hz = v[7]});
}

UnitInfo curlew_info() {
  UnitInfo info{"sim:curlew",
                "Curlew, an intercom box with a coarse converter",
                "Saltmarsh Audiobooks (stand-in)",
                1,
                1,
                {}};
  info.settings = {number("bits", "Of its converter", "bits", 4, 16, 10),
                   number("rate", "Of its converter", "Hz", 4000, 768000, 16000),
                   number("carrier", "Left-over carrier, peak; -200 is none", "dBFS", -200, 0, -50),
                   number("carrier_hz", "Frequency of the carrier", "Hz", 1000, 384000, 19800)};
  info.settings[0].integer = true;
  return info;
}

std::unique_ptr<Unit> open_curlew(const UnitSpec& spec) {
  const UnitInfo info = curlew_info();
  const auto v = setting_values(info.name, info.settings, spec);
  return std::make_unique<Simulated<stand_in::Curlew, stand_in::CurlewSettings>>(
      info, stand_in::CurlewSettings{v[0], v[1], v[2], v[3]});
}

UnitInfo avocet_info() {
  UnitInfo info{"sim:avocet", "Avocet, an equaliser", "Saltmarsh Audiobooks (stand-in)", 1, 1, {}};
  info.settings = {number("cut", "Order of the low cut; 0 is off", "", 0, 4, 0),
                   number("cut_hz", "Corner of the low cut", "Hz", 10, 2000, 80),
                   number("bell", "Bell", "dB", -24, 24, 0),
                   number("bell_hz", "Centre of the bell", "Hz", 20, 20000, 3000),
                   number("q", "Of the bell", "", 0.1, 20, 1),
                   number("shelf", "High shelf", "dB", -24, 24, 0),
                   number("shelf_hz", "Where half of the shelf is reached", "Hz", 200, 20000, 8000),
                   number("level", "Level", "dB", -24, 24, 0),
                   number("lift", "Part of the bell that lifts everything", "", 0, 1, 0)};
  info.settings[0].integer = true;
  return info;
}

std::unique_ptr<Unit> open_avocet(const UnitSpec& spec) {
  const UnitInfo info = avocet_info();
  const auto v = floats(setting_values(info.name, info.settings, spec));
  return std::make_unique<Simulated<stand_in::Avocet, stand_in::AvocetSettings>>(
      info, stand_in::AvocetSettings{static_cast<int>(v[0]), v[1], v[2], v[3], v[4], v[5], v[6], v[7], v[8]});
}

UnitInfo plover_info() {
  UnitInfo info{"sim:plover", "Plover, a compressor", "Saltmarsh Audiobooks (stand-in)", 1, 1, {}};
  info.settings = {number("threshold", "Threshold, of a sine's peak", "dBFS", -60, 0, -20),
                   number("ratio", "Ratio", "", 1, 100, 4),
                   number("knee", "Width of the knee", "dB", 0, 40, 0),
                   number("attack", "Time constant of the attack", "ms", 0.05, 500, 10),
                   number("release", "Time constant of the release", "ms", 1, 5000, 100),
                   number("release2", "Constant by which half of it recovers; 0 is none", "ms", 0, 20000, 0),
                   {.symbol = "detector",
                    .name = "Detector",
                    .minimum = 0,
                    .maximum = 1,
                    .integer = true,
                    .choices_only = true,
                    .choices = {{"peak", 0}, {"rms", 1}}},
                   number("makeup", "Make-up gain", "dB", -24, 24, 0)};
  return info;
}

std::unique_ptr<Unit> open_plover(const UnitSpec& spec) {
  const UnitInfo info = plover_info();
  const auto v = floats(setting_values(info.name, info.settings, spec));
  return std::make_unique<Simulated<stand_in::Plover, stand_in::PloverSettings>>(
      info, stand_in::PloverSettings{v[0], v[1], v[2], v[3], v[4], v[5], v[6] > 0, v[7]});
}

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
  setting("in_place", "The repeated frames take the place of what follows", "", 0, 1, 0);
  info.settings.back().toggle = true;
  setting("clip", "Level at which it clips; 24 is never", "dBFS", -60, 24, 24);
  setting("level", "Level", "dB", -80, 20, 0);
  setting("invert", "Polarity turned", "", 0, 1, 0);
  info.settings.back().toggle = true;
  setting("rate", "Sample rate that it claims; 0 is the true one", "Hz", 0, 768000, 0);
  for (const std::size_t counts : {1U, 3U, 5U, 10U}) info.settings[counts].integer = true;
  return info;
}

std::unique_ptr<Unit> open_sandpiper(const UnitSpec& spec) {
  const UnitInfo info = sandpiper_info();
  const auto v = setting_values(info.name, info.settings, spec);
  const stand_in::SandpiperSettings settings{.drop_at_s = v[0],
                                             .drop_frames = v[1],
                                             .lose_at_s = v[2],
                                             .lose_frames = v[3],
                                             .repeat_at_s = v[4],
                                             .repeat_frames = v[5],
                                             .in_place = v[6] > 0,
                                             .level_db = v[8],
                                             .clip_dbfs = v[7],
                                             .clips = v[7]<24, .invert = v[9]> 0};
  if (v[10] != 0 && v[10] < 8000)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{}: rate={} is below 8000 Hz; 0 is the true rate", info.name, v[10]));
  return std::make_unique<Simulated<stand_in::Sandpiper, stand_in::SandpiperSettings>>(info, settings, v[10]);
}

}  // namespace

std::unique_ptr<Unit> open_stand_in(const UnitSpec& spec) {
  if (spec.name == "tern") return open_tern(spec);
  if (spec.name == "sandpiper") return open_sandpiper(spec);
  if (spec.name == "heron") return open_heron(spec);
  if (spec.name == "curlew") return open_curlew(spec);
  if (spec.name == "dunlin") return open_dunlin(spec);
  if (spec.name == "avocet") return open_avocet(spec);
  if (spec.name == "plover") return open_plover(spec);
  throw Error(ErrorCode::bad_argument,
              fmt::format("there is no stand-in '{}'{}", spec.name,
                          name_hint(spec.name,
                                    {"tern", "sandpiper", "heron", "curlew", "dunlin", "avocet", "plover"})));
}

std::vector<UnitListing> list_stand_ins() {
  std::vector<UnitListing> list;
  for (const UnitInfo& info : {tern_info(), sandpiper_info(), heron_info(), curlew_info(), dunlin_info(),
                               avocet_info(), plover_info()})
    list.push_back({info.name, info.title, info.input_count, info.output_count, ""});
  return list;
}

}  // namespace wavicon::path_detail
