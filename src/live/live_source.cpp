// SPDX-License-Identifier: MIT
#include "wavicon/live/live_source.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>

#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

constexpr std::int64_t kBlock = 256;    // of what is made here
constexpr double kMostAtOnceS = 0.5;    // of time that is caught up with
constexpr double kBetweenTriesS = 0.5;  // of a server that is gone

// Whole blocks of the time that has passed.
class BlockClock {
 public:
  std::int64_t blocks(double seconds, double rate) {
    owed_ += std::min(seconds, kMostAtOnceS) * rate;
    const auto count = static_cast<std::int64_t>(owed_ / static_cast<double>(kBlock));
    owed_ -= static_cast<double>(count * kBlock);
    return count;
  }

 private:
  double owed_ = 0;
};

using Planar = std::vector<std::vector<float>>;

std::vector<float*> pointers(Planar& planar) {
  std::vector<float*> all;
  for (auto& channel : planar) all.push_back(channel.data());
  return all;
}

Planar block_of(int channels) {
  return Planar(static_cast<std::size_t>(channels), std::vector<float>(static_cast<std::size_t>(kBlock)));
}

class Recordings : public LiveSource {
 public:
  Recordings(std::vector<std::pair<std::string, std::shared_ptr<AudioSource>>> recordings, double kept_s)
      : recordings_(std::move(recordings)) {
    if (recordings_.empty() || recordings_.size() > 2)
      throw Error(ErrorCode::bad_argument, "one or two recordings can be watched");
    int count = 0;
    for (const auto& [name, audio] : recordings_) {
      if (sample_rate_hz_ != 0 && audio->sample_rate_hz() != sample_rate_hz_)
        throw Error(ErrorCode::bad_argument,
                    fmt::format("{} has {:g} Hz and {} has {:g} Hz: what is watched together has one rate",
                                recordings_.front().first, sample_rate_hz_, name, audio->sample_rate_hz()));
      sample_rate_hz_ = audio->sample_rate_hz();
      channels_.push_back({.name = name, .first = count, .count = audio->channel_count()});
      count += audio->channel_count();
      frames_ = std::max(frames_, audio->frames());
    }
    ring_ = std::make_shared<SampleRing>(count, std::llround(kept_s * sample_rate_hz_) + kBlock);
    block_ = block_of(count);
  }

  void advance(double seconds) override {
    const auto to = pointers(block_);
    for (std::int64_t i = clock_.blocks(seconds, sample_rate_hz_); i > 0 && !ended(); --i) {
      const std::int64_t count = std::min(kBlock, frames_ - at_);
      std::size_t channel = 0;
      for (const auto& [name, audio] : recordings_) {
        read_.resize(static_cast<std::size_t>(audio->channel_count() * count));
        audio->read(at_, read_);
        for (std::size_t from = 0; from < read_.size(); from += static_cast<std::size_t>(count), ++channel)
          std::copy_n(read_.begin() + static_cast<std::ptrdiff_t>(from), count, block_[channel].begin());
      }
      ring_->write(to.data(), count);
      at_ += count;
    }
  }
  bool ended() const noexcept override { return at_ >= frames_; }

 private:
  std::vector<std::pair<std::string, std::shared_ptr<AudioSource>>> recordings_;
  std::int64_t frames_ = 0, at_ = 0;
  BlockClock clock_;
  Planar block_;
  std::vector<double> read_;
};

// A unit, and how it is opened again.
struct LiveUnit {
  UnitSpec spec;
  std::unique_ptr<Unit> unit;
  std::size_t first_setting = 0;
};

class Through : public LiveSource {
 public:
  Through(std::shared_ptr<Generator> generator, const std::vector<std::string>& units,
          const UnitSearch& search, double kept_s)
      : search_(search) {
    generator_ = std::move(generator);
    sample_rate_hz_ = generator_->sample_rate_hz();
    search_.sample_rate_hz = sample_rate_hz_;
    if (units.empty()) throw Error(ErrorCode::bad_argument, "through which unit?");
    std::string name;
    for (const std::string& text : units) {
      units_.push_back({parse_unit(text), open_unit(parse_unit(text), search_), settings_.size()});
      list_settings(units_.back());
      name += (name.empty() ? "" : " → ") + units_.back().unit->info().name;
    }
    presets_ = units_.front().unit->info().presets;
    in_ = block_of(generator_->channel_count());
    prepare();
    channels_ = {{"in", 0, generator_->channel_count()}, {name, generator_->channel_count(), out_channels_}};
    ring_ = std::make_shared<SampleRing>(generator_->channel_count() + out_channels_,
                                         std::llround(kept_s * sample_rate_hz_) + kBlock);
  }

  void advance(double seconds) override {
    for (std::int64_t i = clock_.blocks(seconds, sample_rate_hz_); i > 0; --i) block();
  }

  double turn(std::size_t setting, double value) override {
    value = LiveSource::turn(setting, value);
    LiveUnit& unit = *std::find_if(units_.rbegin(), units_.rend(),
                                   [&](const LiveUnit& one) { return one.first_setting <= setting; });
    const std::size_t own = setting - unit.first_setting;
    if (trouble_.empty() && unit.unit->turn(own, value)) return value;
    reopen(unit);
    return value;
  }

  void choose_preset(std::size_t preset) override {
    LiveUnit& unit = units_.front();
    unit.spec.settings = {{"preset", presets_.at(preset)}};
    unit.unit = open_unit(unit.spec, search_);
    for (std::size_t i = 0; i < unit.unit->info().settings.size(); ++i)
      settings_[unit.first_setting + i].value = unit.unit->info().settings[i].default_value;
    prepare();
  }

 private:
  void list_settings(const LiveUnit& unit) {
    const UnitInfo& info = unit.unit->info();
    UnitSpec known = unit.spec;
    std::erase_if(known.settings, [&](const auto& given) {
      return std::none_of(info.settings.begin(), info.settings.end(),
                          [&](const SettingInfo& one) { return one.symbol == given.first; });
    });
    const std::vector<double> values = setting_values(info.name, info.settings, known);
    for (std::size_t i = 0; i < values.size(); ++i)
      settings_.push_back({info.name, info.settings[i], values[i]});
  }

  // Settings that are taken only at the start: it begins anew with them.
  void reopen(LiveUnit& unit) {
    std::vector<std::pair<std::string, std::string>> given;
    for (const auto& one : unit.spec.settings)
      if (one.first == "preset" || one.first == "state") given.push_back(one);
    for (std::size_t i = 0; i < unit.unit->info().settings.size(); ++i) {
      const LiveSetting& setting = settings_[unit.first_setting + i];
      given.emplace_back(setting.info.symbol, fmt::format("{}", setting.value));
    }
    unit.spec.settings = std::move(given);
    unit.unit = open_unit(unit.spec, search_);
    prepare();
  }

  void prepare() {
    trouble_.clear();
    between_.clear();
    int channels = generator_->channel_count();
    for (LiveUnit& unit : units_) {
      unit.unit->prepare(sample_rate_hz_, channels, static_cast<int>(kBlock));
      channels = unit.unit->output_channel_count();
      between_.push_back(block_of(channels));
    }
    if (out_channels_ != 0 && channels != out_channels_)
      throw Error(ErrorCode::unit_failed, "with this setting other channels come out");
    out_channels_ = channels;
  }

  void block() {
    std::vector<float*> from = pointers(in_);
    generator_->render(from.data(), static_cast<int>(from.size()), kBlock);
    std::vector<const float*> all(from.begin(), from.end());
    if (trouble_.empty()) {
      try {
        std::int64_t late = 0;
        for (std::size_t i = 0; i < units_.size(); ++i) {
          std::vector<float*> to = pointers(between_[i]);
          units_[i].unit->run(from.data(), to.data());
          late += units_[i].unit->latency_frames();
          from = std::move(to);
        }
        channels_.back().late_frames = late;
      } catch (const Error& error) {
        trouble_ = error.what();
      }
    }
    if (!trouble_.empty())
      for (auto& channel : between_.back()) std::fill(channel.begin(), channel.end(), 0.0F);
    for (auto& channel : between_.back()) all.push_back(channel.data());
    ring_->write(all.data(), kBlock);
  }

  UnitSearch search_;
  std::vector<LiveUnit> units_;
  int out_channels_ = 0;
  BlockClock clock_;
  Planar in_;
  std::vector<Planar> between_;
};

// What the server's thread touches.
class Listening : public StreamProcess {
 public:
  Listening(std::shared_ptr<SampleRing> ring, std::shared_ptr<Generator> generator, int play_channels)
      : ring_(std::move(ring)), generator_(std::move(generator)), play_channels_(play_channels) {}
  void process(const float* const* in, float* const* out, std::int64_t frames) noexcept override {
    if (generator_ != nullptr) {
      play_start_.store(ring_->written() - generator_->rendered(), std::memory_order_relaxed);
      generator_->render(out, play_channels_, frames);
    }
    ring_->write(in, frames);
  }
  void xrun() noexcept override { xruns_.fetch_add(1, std::memory_order_relaxed); }
  [[nodiscard]] std::int64_t xruns() const noexcept { return xruns_.load(std::memory_order_relaxed); }
  [[nodiscard]] std::int64_t play_start() const noexcept {
    return play_start_.load(std::memory_order_relaxed);
  }

 private:
  std::shared_ptr<SampleRing> ring_;
  std::shared_ptr<Generator> generator_;
  int play_channels_;
  std::atomic<std::int64_t> xruns_{0}, play_start_{0};
};

class Server : public LiveSource {
 public:
  Server(StreamOptions options, const std::function<std::shared_ptr<Generator>(double)>& make_generator,
         double kept_s)
      : options_(std::move(options)) {
    stream_ = std::make_unique<LiveStream>(options_);
    sample_rate_hz_ = stream_->sample_rate_hz();
    if (make_generator) generator_ = make_generator(sample_rate_hz_);
    if (generator_ != nullptr) {
      if (options_.to.empty())
        throw Error(ErrorCode::bad_argument, "played to where? jack:SERVER?to=PORTS&from=PORTS");
      options_.play_channels = generator_->channel_count();
      stream_.reset();  // its name is free again
      stream_ = std::make_unique<LiveStream>(options_);
    } else {
      options_.to.clear();
    }
    int count = 0;
    for (const auto& ports : stream_->recorded_from()) {
      channels_.push_back({ports.front(), count, static_cast<int>(ports.size())});
      count += static_cast<int>(ports.size());
    }
    if (channels_.empty() || channels_.size() > 2)
      throw Error(ErrorCode::bad_argument, "one or two groups of ports can be watched");
    ring_ = std::make_shared<SampleRing>(count, std::llround(kept_s * sample_rate_hz_) + 65536);
    listening_ = std::make_shared<Listening>(ring_, generator_, options_.play_channels);
    stream_->start(listening_);
  }

  void advance(double seconds) override {
    if (stream_ != nullptr) {
      trouble_ = stream_->trouble();
      if (trouble_.empty()) return;
      ++breaks_;
      stream_.reset();
      waited_s_ = 0;
      return;
    }
    waited_s_ += seconds;
    if (waited_s_ < kBetweenTriesS) return;
    waited_s_ = 0;
    try {
      auto stream = std::make_unique<LiveStream>(options_);
      bool same = stream->sample_rate_hz() == sample_rate_hz_;
      std::size_t i = 0;
      for (const auto& ports : stream->recorded_from())
        same = same && i < channels_.size() && static_cast<int>(ports.size()) == channels_[i++].count;
      if (!same)
        throw Error(ErrorCode::unit_failed,
                    "the server came back with another rate or other ports: start anew");
      stream->start(listening_);
      stream_ = std::move(stream);
      trouble_.clear();
    } catch (const Error&) {
      // It is not there yet: the trouble stays.
    }
  }
  std::int64_t xruns() const noexcept override { return listening_->xruns() + breaks_; }
  std::int64_t play_start() const noexcept override { return listening_->play_start(); }

 private:
  StreamOptions options_;
  std::unique_ptr<LiveStream> stream_;
  std::shared_ptr<Listening> listening_;
  double waited_s_ = 0;
  std::int64_t breaks_ = 0;
};

}  // namespace

double LiveSource::turn(std::size_t setting, double value) {
  LiveSetting& turned = settings_.at(setting);
  const SettingInfo& info = turned.info;
  value = std::clamp(value, info.minimum, info.maximum);
  if (info.integer || info.toggle) value = std::round(value);
  turned.value = value;
  return value;
}

std::unique_ptr<LiveSource> play_recordings(
    std::vector<std::pair<std::string, std::shared_ptr<AudioSource>>> recordings, double kept_s) {
  return std::make_unique<Recordings>(std::move(recordings), kept_s);
}

std::unique_ptr<LiveSource> generator_through(std::shared_ptr<Generator> generator,
                                              const std::vector<std::string>& units, const UnitSearch& search,
                                              double kept_s) {
  return std::make_unique<Through>(std::move(generator), units, search, kept_s);
}

std::unique_ptr<LiveSource> ports_of_server(
    StreamOptions options, const std::function<std::shared_ptr<Generator>(double)>& make_generator,
    double kept_s) {
  return std::make_unique<Server>(std::move(options), make_generator, kept_s);
}

}  // namespace wavicon
