// SPDX-License-Identifier: MIT
#pragma once
// Sees what code on an audio thread must not do: ask for memory, wait for a lock.

#include <cstdint>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// What was asked for while the watch was on.
struct WatchedCalls {
  std::int64_t allocations = 0;  ///< malloc, calloc, realloc, aligned ones, free; operators new and delete
  std::int64_t locks = 0;        ///< mutexes, conditions, semaphores that are waited for
};

/// Turns the calls that shared libraries make to the C library into counted ones: entries of their tables of
/// imported functions are exchanged, those of the program itself, of the C library and of the loader are not.
/// Cannot be undone: for a process of its own.
///
/// @return whether that is possible here: Linux with ELF tables of x86-64 or AArch64, without a sanitizer.
[[nodiscard]] WAVICON_EXPORT bool watch_calls();
/// Counts calls of this thread from now on.
WAVICON_EXPORT void begin_watch();
/// Counts no longer. @return what was counted.
WAVICON_EXPORT WatchedCalls end_watch();

}  // namespace wavicon
