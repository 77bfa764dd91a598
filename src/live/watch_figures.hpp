// SPDX-License-Identifier: MIT
#pragma once
// Figures of windows of audio. Internal to `live`.

#include "wavicon/live/watch.hpp"

namespace wavicon::live_detail {

struct WindowAudio {
  std::string name;
  Audio audio;
};

/// @param windows  one for each source, of the same time; empty: there is not enough yet.
/// @param marks    what the window of a round trip holds from its first frame on.
WatchFigures figures_of(WatchView view, const std::vector<WindowAudio>& windows, double at_s,
                        const std::shared_ptr<Stimulus>& marks);

}  // namespace wavicon::live_detail
