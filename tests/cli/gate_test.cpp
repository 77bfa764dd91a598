// SPDX-License-Identifier: MIT
// Every measurement of the list, as a command, over every fault that the health check knows: refused with
// exit status 3, or tolerated because its descriptor says so.

#include "program.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::gate_test {
namespace {

using namespace testing;

struct Fault {
  std::string file;
  FindingCode code;
};

class Gates : public Program {
 protected:
  void SetUp() override {
    write_text(file("all.toml"), R"(name = "all"
[[part]]
kind = "tone"
name = "tone"
seconds = 1.0
silence_before_s = 0.2
[[part]]
kind = "silence"
name = "hush"
seconds = 0.8
[[part]]
kind = "sweep"
name = "sweep"
seconds = 1.5
level_dbfs = -12.0
silence_after_s = 0.5
[[part]]
kind = "staircase"
name = "stairs"
levels_dbfs = [-50.0, -44.0, -38.0, -32.0, -26.0, -20.0, -14.0, -8.0]
step_s = 0.2
[[part]]
kind = "block"
name = "block"
low_s = 0.2
high_s = 0.3
after_s = 0.4
)");
    good("make --recipe all.toml -o a.wav --quiet");
    const AudioFile made = read_audio_file(file("a.wav"));
    info_ = made.info;
    x_.assign(made.audio.channel(0).begin(), made.audio.channel(0).end());
    recipe_ = info_.recipe;
    add("dropout.wav", FindingCode::dropout, [&](auto& x) { std::fill_n(x.begin() + at(0.7), 480, 0.0); });
    add("lost.wav", FindingCode::lost_frames,
        [&](auto& x) { x.erase(x.begin() + at(2.9), x.begin() + at(2.9) + 300); });
    add("repeated.wav", FindingCode::repeated_frames, [&](auto& x) {
      const std::vector<double> more(x.begin() + at(2.9), x.begin() + at(2.9) + 300);
      x.insert(x.begin() + at(2.9), more.begin(), more.end());
    });
    add("start.wav", FindingCode::cut_start, [&](auto& x) { x.erase(x.begin(), x.begin() + at(0.3)); });
    add("end.wav", FindingCode::cut_end,
        [&](auto& x) { x.resize(x.size() - static_cast<std::size_t>(at(0.3))); });
    add("silent.wav", FindingCode::silent, [](auto& x) { std::fill(x.begin(), x.end(), 0.0); });
    add("nan.wav", FindingCode::broken_sample, [&](auto& x) { x[static_cast<std::size_t>(at(1))] = NAN; });
    add("other.wav", FindingCode::wrong_stimulus, [](auto& x) {
      for (std::size_t n = 0; n < x.size(); ++n)
        x[n] = 0.01 * std::sin(0.02 * static_cast<double>(n * n % 7919));
    });
    rate_ = 44100;
    add("rate.wav", FindingCode::wrong_rate, [](auto&) {});
    rate_ = info_.sample_rate_hz;
    format_ = SampleFormat::pcm16;
    add("clipped.wav", FindingCode::clipped, [](auto& x) {
      for (double& v : x) v *= 4;
    });
  }

  std::ptrdiff_t at(double s) const { return static_cast<std::ptrdiff_t>(s * info_.sample_rate_hz); }

  template <typename Damage>
  void add(const std::string& name, FindingCode code, Damage damage) {
    auto x = x_;
    damage(x);
    Audio audio(rate_, 1, static_cast<std::int64_t>(x.size()));
    std::copy(x.begin(), x.end(), audio.channel(0).begin());
    AudioWriteOptions options{.sample_rate_hz = rate_, .channel_count = 1, .format = format_};
    options.recipe = recipe_;
    (void)write_audio_file(file(name), audio, options);
    faults_.push_back({name, code});
  }

  AudioFileInfo info_;
  std::vector<double> x_;
  std::string recipe_;
  double rate_ = 48000;
  SampleFormat format_ = SampleFormat::float32;
  std::vector<Fault> faults_;
};

TEST_F(Gates, NoFaultReachesAMeasurementThatDoesNotTolerateIt) {
  ASSERT_EQ(faults_.size(), 10U);
  for (const MeasurementDescriptor& measurement : measurements()) {
    const bool two = measurement.input == MeasuredInput::against || measurement.input == MeasuredInput::pair;
    const std::string first = two ? " a.wav " : " ";
    for (const Fault& fault : faults_) {
      const std::string call = measurement.name + first + fault.file;
      const Ran ran = wavicon(call + " --json");
      const auto& tolerated = measurement.tolerated;
      if (std::find(tolerated.begin(), tolerated.end(), fault.code) != tolerated.end()) {
        if (ran.status == 0) {
          EXPECT_HAS(ran.out, "\"code\":\"" + std::string(word_of(fault.code)) + "\"") << call;
        } else {
          EXPECT_EQ(ran.status, 3) << call << "\n" << ran.err;
        }
        continue;
      }
      EXPECT_EQ(ran.status, 3) << call << "\n" << ran.out.substr(0, 200) << ran.err;
      EXPECT_EQ(ran.out, "") << call;
      const bool broken = fault.code == FindingCode::broken_sample;
      EXPECT_HAS(ran.err, broken ? "NaN or infinity (channel 1, frame 48000" : "unfit to be measured")
          << call;
      EXPECT_HAS(ran.err, broken ? "health" : "--despite-faults") << call;
    }
  }
}

TEST_F(Gates, DespiteFaultsStandsInConditionsAndFindings) {
  for (const MeasurementDescriptor& measurement : measurements()) {
    if (measurement.input != MeasuredInput::capture) continue;
    const Ran ran = wavicon(measurement.name + " dropout.wav --json --despite-faults");
    ASSERT_EQ(ran.status, 0) << measurement.name << "\n" << ran.err;
    EXPECT_HAS(ran.out, "\"despite_faults\":true") << measurement.name;
    EXPECT_HAS(ran.out, "\"severity\":\"fault\",\"code\":\"dropout\"") << measurement.name;
  }
}

// The defects that this gate was built for.
TEST_F(Gates, WhatWasMeasuredWithoutAWordIsRefused) {
  EXPECT_HAS(bad(3, "response a.wav dropout.wav"), "1 dropout");
  EXPECT_HAS(bad(3, "clipping dropout.wav"), "1 dropout");
  EXPECT_HAS(bad(3, "null dropout.wav a.wav"), "1 dropout");
  const json clipped = json::parse(good("clipping clipped.wav --json"));
  EXPECT_TRUE(std::any_of(clipped["findings"].begin(), clipped["findings"].end(), [](const json& f) {
    return f["code"] == "clipped" && f["severity"] == "warning";
  }));
}

// Captures may have lower rates than any stimulus has: what is recognised in them is not rendered.
TEST_F(Program, ACaptureAtTwoKilohertzIsMeasured) {
  AudioWriter writer(file("low.wav"), {.sample_rate_hz = 2000, .channel_count = 1});
  std::vector<double> x(20000);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = 0.5 * std::sin(0.1 * M_PI * static_cast<double>(n) + 0.3);
  writer.write(std::span<const double>(x));
  writer.finish();
  EXPECT_HAS(good("health low.wav"), "nothing is wrong with it by itself");
  const std::string levels = good("levels low.wav");
  EXPECT_HAS(levels, "no loudness at rates below 4 kHz");
  EXPECT_HAS(levels, "RMS -9.03 dBFS");
  EXPECT_HAS(good("show low.wav"), "a tone of 100 Hz");
  EXPECT_HAS(good("noise low.wav"), "under a tone");
  EXPECT_HAS(good("harmonics low.wav"), "100 Hz");
}

}  // namespace
}  // namespace wavicon::gate_test
