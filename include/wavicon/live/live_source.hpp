// SPDX-License-Identifier: MIT
#pragma once
// Where what is watched comes from: ports of a sound server, units behind a generator, recordings played at
// their own speed.

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/live/generator.hpp"
#include "wavicon/audio/sample_ring.hpp"
#include "wavicon/path/live_stream.hpp"
#include "wavicon/path/unit.hpp"

namespace wavicon {

/// One of the things that are watched: channels that lie beside each other in the ring.
struct WatchedChannels {
  std::string name;
  int first = 0;
  int count = 1;
  /// Frames by which it comes after the first one, as its units report: what is read is lined up by it.
  std::int64_t late_frames = 0;
};

/// A setting that can be turned while it runs.
struct LiveSetting {
  std::string unit;  ///< its name
  SettingInfo info;
  double value = 0;
};

class WAVICON_EXPORT LiveSource {
 public:
  virtual ~LiveSource() = default;

  [[nodiscard]] double sample_rate_hz() const noexcept { return sample_rate_hz_; }
  /// One or two.
  [[nodiscard]] const std::vector<WatchedChannels>& channels() const noexcept { return channels_; }
  [[nodiscard]] const SampleRing& ring() const noexcept { return *ring_; }
  /// What is played meanwhile; null: nothing.
  [[nodiscard]] Generator* generator() const noexcept { return generator_.get(); }

  /// Time passes: what belongs to it is made, or it is looked whether the server still is there.
  virtual void advance(double seconds) = 0;
  /// Why nothing comes; empty: it does.
  [[nodiscard]] const std::string& trouble() const noexcept { return trouble_; }
  /// Nothing more will come.
  [[nodiscard]] virtual bool ended() const noexcept { return false; }
  [[nodiscard]] virtual std::int64_t xruns() const noexcept { return 0; }
  /// Ring frame at which the generator began: a loop starts there and every loop_frames() on.
  [[nodiscard]] virtual std::int64_t play_start() const noexcept { return 0; }

  [[nodiscard]] const std::vector<LiveSetting>& settings() const noexcept { return settings_; }
  /// @return what it became: within its range. @throws Error unit_failed when it does not come back.
  virtual double turn(std::size_t setting, double value);
  [[nodiscard]] const std::vector<std::string>& presets() const noexcept { return presets_; }
  virtual void choose_preset(std::size_t preset) { (void)preset; }

 protected:
  double sample_rate_hz_ = 0;
  std::vector<WatchedChannels> channels_;
  std::shared_ptr<SampleRing> ring_;
  std::shared_ptr<Generator> generator_;
  std::string trouble_;
  std::vector<LiveSetting> settings_;
  std::vector<std::string> presets_;
};

/// A recording, or two of the same rate side by side, at their own speed.
///
/// @param kept_s  how much of the newest stays. @throws Error bad_argument for none, more than two, or rates
/// that differ.
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<LiveSource> play_recordings(
    std::vector<std::pair<std::string, std::shared_ptr<AudioSource>>> recordings, double kept_s);

/// Units behind a generator: what goes in, and what comes out. @param units  as open_unit() takes them, in
/// series. @throws Error as open_unit() and Unit::prepare().
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<LiveSource> generator_through(
    std::shared_ptr<Generator> generator, const std::vector<std::string>& units, const UnitSearch& search,
    double kept_s);

/// Ports of a server: comes back when the server does. @param make_generator  for its rate; empty, or null:
/// nothing is played. @throws Error as LiveStream.
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<LiveSource> ports_of_server(
    StreamOptions options,
    const std::function<std::shared_ptr<Generator>(double sample_rate_hz)>& make_generator, double kept_s);

}  // namespace wavicon
