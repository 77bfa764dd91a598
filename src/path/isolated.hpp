// SPDX-License-Identifier: MIT
#pragma once
// A unit whose code runs in a process of its own: what goes wrong there is reported, not shared. Internal to
// `path`.

#include <functional>
#include <memory>
#include <string>

#include "wavicon/path/unit.hpp"

namespace wavicon::path_detail {

struct Isolation {
  double patience_s = 10;                ///< without progress
  std::size_t most_memory = 2ULL << 30;  ///< bytes that the unit may add to what the process holds
};

/// The same unit, whose prepare() and run() happen in a child process (fork; shared memory with guard pages
/// around each buffer). Nothing of `inner` is run in this process.
///
/// A child that crashes, aborts, exits, makes no progress, allocates without end or writes beyond its buffers
/// is reported as Error unit_failed in one line that names it.
[[nodiscard]] std::unique_ptr<Unit> isolated(std::unique_ptr<Unit> inner, const Isolation& options);

/// Calls `work` in a child and hands over the text that it returns; for descriptions that only running code
/// can give.
///
/// @throws Error unit_failed naming `what` when the child ends otherwise, or takes too long.
[[nodiscard]] std::string told_by_child(const std::string& what, const std::function<std::string()>& work,
                                        const Isolation& options);

}  // namespace wavicon::path_detail
