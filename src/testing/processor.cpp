// SPDX-License-Identifier: MIT
#include "wavicon/testing/processor.hpp"

#include <algorithm>
#include <cmath>

#include "wavicon/audio/error.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
namespace {

constexpr double kTailS = 0.5;

class ProcessorUnit : public Unit {
 public:
  explicit ProcessorUnit(Processor processor) : processor_(std::move(processor)) {
    info_.name = "own:" + processor_.name();
    info_.title = processor_.name();
    info_.input_count = info_.output_count = 0;
  }
  const UnitInfo& info() const noexcept override { return info_; }
  void prepare(double sample_rate_hz, int channel_count, int block_frames) override {
    processor_.at_rate(sample_rate_hz);
    run_ = processor_.start(block_frames);
    frames_ = block_frames;
    held_.assign(static_cast<std::size_t>(channel_count),
                 std::vector<double>(static_cast<std::size_t>(frames_)));
    pointers_.clear();
    for (auto& channel : held_) pointers_.push_back(channel.data());
  }
  int output_channel_count() const noexcept override { return static_cast<int>(held_.size()); }
  void run(const float* const* inputs, float* const* outputs) override {
    for (std::size_t c = 0; c < held_.size(); ++c) std::copy_n(inputs[c], frames_, held_[c].begin());
    run_(pointers_.data(), static_cast<int>(held_.size()), frames_);
    for (std::size_t c = 0; c < held_.size(); ++c)
      for (int n = 0; n < frames_; ++n)
        outputs[c][n] = static_cast<float>(held_[c][static_cast<std::size_t>(n)]);
  }
  std::int64_t latency_frames() const noexcept override { return processor_.latency(); }

 private:
  Processor processor_;
  UnitInfo info_;
  std::function<void(double* const*, int, int)> run_;
  std::vector<std::vector<double>> held_;
  std::vector<double*> pointers_;
  int frames_ = 0;
};

}  // namespace

Audio processed(const Processor& processor, const Audio& signal, int block_frames) {
  if (signal.channel_count() != processor.channel_count())
    throw Error(ErrorCode::bad_argument,
                processor.name() + ": the signal has other channels; of_channels() says how many");
  const int block = block_frames > 0 ? block_frames : processor.block_frames();
  if (block < 1) throw Error(ErrorCode::bad_argument, processor.name() + ": a block has at least one frame");
  Audio out(signal.sample_rate_hz(), signal.channel_count(), signal.frames());
  for (int c = 0; c < signal.channel_count(); ++c)
    std::copy(signal.channel(c).begin(), signal.channel(c).end(), out.channel(c).begin());
  const auto run = processor.start(block);
  std::vector<double*> channels(static_cast<std::size_t>(signal.channel_count()));
  for (std::int64_t at = 0; at < signal.frames(); at += block) {
    for (std::size_t c = 0; c < channels.size(); ++c)
      channels[c] = out.channel(static_cast<int>(c)).data() + at;
    run(channels.data(), signal.channel_count(),
        static_cast<int>(std::min<std::int64_t>(block, signal.frames() - at)));
  }
  return out;
}

JudgedCapture feed(const Recipe& recipe, const Processor& processor, const GatePolicy& policy) {
  Recipe own = recipe;
  own.sample_rate_hz = processor.sample_rate_hz();
  own.channel_count = processor.channel_count();
  const auto stimulus = std::make_shared<Stimulus>(own);
  const std::int64_t frames = stimulus->frames(), late = processor.latency(),
                     tail = std::llround(kTailS * own.sample_rate_hz);
  Audio in(own.sample_rate_hz, own.channel_count, frames + tail + late),
      capture(own.sample_rate_hz, own.channel_count, frames + tail);
  for (int c = 0; c < own.channel_count; ++c)
    stimulus->render(0, c, in.channel(c).first(static_cast<std::size_t>(frames)));
  const Audio out = processed(processor, in);
  for (int c = 0; c < own.channel_count; ++c)
    std::copy_n(out.channel(c).begin() + late, frames + tail, capture.channel(c).begin());
  return judge(capture, processor.is_float() ? SampleFormat::float32 : SampleFormat::float64,
               {stimulus, Take{}}, policy);
}

std::unique_ptr<Unit> unit_of(Processor processor) {
  return std::make_unique<ProcessorUnit>(std::move(processor));
}

OwnUnit own_unit(std::string name, std::vector<SettingInfo> settings,
                 std::function<Processor(const std::vector<double>&)> make) {
  const auto unit = [name, make = std::move(make)](const std::vector<double>& values) {
    return unit_of(make(values).named(name));
  };
  return {std::move(name), std::move(settings), unit};
}

}  // namespace wavicon
