// SPDX-License-Identifier: MIT
#pragma once
// Ports of a JACK server for as long as somebody watches: blocks come in, and go out, without end.

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// What the server calls from its own thread: nothing there may allocate, lock or wait.
class StreamProcess {
 public:
  virtual ~StreamProcess() = default;
  /// @param in   one pointer for each port that is recorded. @param out  for each channel that is played.
  virtual void process(const float* const* in, float* const* out, std::int64_t frames) noexcept = 0;
  virtual void xrun() noexcept = 0;
};

struct StreamOptions {
  std::string server;             ///< empty: the default one
  std::vector<std::string> from;  ///< patterns of the ports that are recorded, one for each source
  std::string to;                 ///< pattern of the ports that are played to; empty: none
  int play_channels = 1;          ///< one goes to every port; of several, each to its own
};

/// A client with ports; callbacks run from start() until it ends.
class WAVICON_EXPORT LiveStream {
 public:
  /// @throws Error unit_failed when there is no server, or no such port (with those that are).
  explicit LiveStream(const StreamOptions& options);
  ~LiveStream();
  LiveStream(const LiveStream&) = delete;
  LiveStream& operator=(const LiveStream&) = delete;

  [[nodiscard]] double sample_rate_hz() const noexcept;
  [[nodiscard]] int block_frames() const noexcept;
  /// Ports of each source.
  [[nodiscard]] const std::vector<std::vector<std::string>>& recorded_from() const noexcept;
  [[nodiscard]] const std::vector<std::string>& played_to() const noexcept;

  /// Connects, and lets blocks come. @param process  kept until no callback runs any more. @throws Error
  /// unit_failed.
  void start(std::shared_ptr<StreamProcess> process);
  /// Why nothing comes any more; empty: it does. For the thread that made it.
  [[nodiscard]] std::string trouble();
  /// Round trip that the ports report; after start().
  [[nodiscard]] std::int64_t reported_samples() const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace wavicon
