// SPDX-License-Identifier: MIT
#pragma once
// Figures of windows of audio. Internal to `live`.

#include "wavicon/live/watch.hpp"

namespace wavicon::live_detail {

struct WindowAudio {
  std::string name;
  Audio audio;
};

/// Audio that goes with its source.
class OwnedSource : public AudioSource {
 public:
  explicit OwnedSource(Audio audio) : audio_(std::move(audio)), source_(audio_) {}
  double sample_rate_hz() const noexcept override { return audio_.sample_rate_hz(); }
  int channel_count() const noexcept override { return audio_.channel_count(); }
  std::int64_t frames() const noexcept override { return audio_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override {
    source_.read(first_frame, planar);
  }

 private:
  Audio audio_;
  MemorySource source_;
};

/// @param windows  one for each source, of the same time; empty: there is not enough yet.
/// @param marks    what the window of a round trip holds from its first frame on.
WatchFigures figures_of(WatchView view, const std::vector<WindowAudio>& windows, double at_s,
                        const std::shared_ptr<Stimulus>& marks);

}  // namespace wavicon::live_detail
