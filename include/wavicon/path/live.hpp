// SPDX-License-Identifier: MIT
#pragma once
// A stimulus played and an answer recorded at the same time, sample by sample, through a JACK server.
// Definitions: docs/live.md.

#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/path/unit.hpp"

namespace wavicon {

/// What the callback of a sound server works on: everything is there before it starts. It allocates nothing,
/// locks nothing, and never waits.
class WAVICON_EXPORT LiveTransport {
 public:
  /// @param stimulus  planar, one run for each channel, all of the same length; faded over 5 ms at both ends.
  /// @param frames    to record.
  LiveTransport(std::vector<std::vector<float>> stimulus, int record_channels, std::int64_t frames,
                double sample_rate_hz);

  /// One block: records, and plays from where it stands; silence while it has not been started.
  void cycle(const float* const* in, float* const* out, std::int64_t frames) noexcept;
  /// From the next block on. Callable from any thread.
  void start() noexcept { started_.store(true, std::memory_order_release); }
  [[nodiscard]] std::int64_t position() const noexcept { return position_.load(std::memory_order_acquire); }
  [[nodiscard]] bool done() const noexcept { return position() >= frames_; }
  /// Highest magnitude that came in, of all channels: before the start, and since.
  [[nodiscard]] float idle_peak() const noexcept { return idle_peak_.load(std::memory_order_acquire); }
  [[nodiscard]] float peak() const noexcept { return peak_.load(std::memory_order_acquire); }
  /// What was recorded; read it when no callback runs any more.
  [[nodiscard]] const std::vector<std::vector<float>>& recorded() const noexcept { return recorded_; }
  [[nodiscard]] int play_channels() const noexcept { return static_cast<int>(stimulus_.size()); }

 private:
  std::vector<std::vector<float>> stimulus_, recorded_;
  std::int64_t frames_;
  std::int64_t fade_;
  std::atomic<bool> started_{false};
  std::atomic<std::int64_t> position_{0};
  std::atomic<float> idle_peak_{0}, peak_{0};
};

struct LiveOptions {
  std::string server;        ///< empty: the default one
  std::string to;            ///< pattern of the ports that are played to; empty: nothing is played
  std::string from;          ///< pattern of the ports that are recorded
  double ceiling_dbfs = -6;  ///< a stimulus with a higher peak is refused
  double tail_s = 0.5;       ///< recorded after the stimulus
  double look_s = 1;         ///< how long the input is looked at before anything is played
  std::function<void(double)> progress;
};

/// What jack:SERVER?to=PORTS&from=PORTS asks for; SERVER is "default" or a name. @throws Error bad_argument
/// for another setting, with the nearest name, or without ports to record.
[[nodiscard]] WAVICON_EXPORT LiveOptions live_options(const UnitSpec& spec);

struct LiveResult {
  std::vector<std::vector<float>> recorded;  ///< planar
  std::int64_t reported_samples = 0;         ///< round trip, as the ports say
  int block_frames = 0;
  std::vector<std::int64_t> xruns;  ///< frames of the capture at which the server lost the beat
  double idle_peak = 0;             ///< of the input before anything was played
  double peak = 0;
  std::vector<std::string> played_to, recorded_from;
  std::string cut;  ///< why it ended early; empty: it did not
};

/// @param stimulus  planar. @param sample_rate_hz  has to be the server's.
/// @throws Error unit_failed when there is no server, its rate is another one, or the ports are not there
/// (with those that are); bad_argument for a stimulus above the ceiling.
[[nodiscard]] WAVICON_EXPORT LiveResult play_and_record(std::vector<std::vector<float>> stimulus,
                                                        double sample_rate_hz, const LiveOptions& options);

/// A unit as a client of a JACK server: ports in_1 … and out_1 …, until `stop` says so or the server goes.
///
/// @param reported_samples  round trip that its ports claim. @throws Error as play_and_record().
WAVICON_EXPORT void serve_unit(Unit& unit, const std::string& client_name, const std::string& server,
                               int channel_count, std::int64_t reported_samples,
                               const std::function<void(const std::string&)>& ready,
                               const std::function<bool()>& stop);

}  // namespace wavicon
