// SPDX-License-Identifier: MIT
#pragma once
// Processes that do a part of the work, and do not outlive the one that made them.

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// To be called first in a process that fork() made to do a part of the work: it ends at SIGTERM, and when its
/// parent ends, in whatever way that does.
///
/// @param parent  process ID of the one that forked, asked before it did.
/// @param at_end  called before it ends so, at a signal: abandon_partial_files().
WAVICON_EXPORT void begin_worker(int parent, void (*at_end)() noexcept) noexcept;

/// Ends such a process and waits until it is gone, with SIGKILL if it does not go within a second.
///
/// @param worker  process ID of a child that was not waited for.
WAVICON_EXPORT void end_worker(int worker) noexcept;

}  // namespace wavicon
