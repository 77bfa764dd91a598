// SPDX-License-Identifier: MIT
#pragma once
// Watching by the clock: on a terminal, or in lines.

#include <functional>

#include "wavicon/audio/export.hpp"
#include "wavicon/live/watch.hpp"

namespace wavicon {

struct WatchLoop {
  double seconds = 0;                                ///< 0: without end
  std::function<bool()> stop;                        ///< asked all the time; empty: never
  std::function<void(const WatchFigures&)> figures;  ///< once a second; where there is no terminal
};

/// Until the source has ended, the time is over, stop() says so, or the reading that was waited for is there.
WAVICON_EXPORT void watch_in_lines(Watch& watch, const WatchLoop& loop);

/// Until a key ends it, or as watch_in_lines(); a recording that has ended stays.
///
/// @throws Error bad_output as Terminal.
WAVICON_EXPORT void watch_on_terminal(Watch& watch, const WatchLoop& loop, bool colour);

}  // namespace wavicon
