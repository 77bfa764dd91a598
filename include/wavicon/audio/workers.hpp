// SPDX-License-Identifier: MIT
#pragma once
// Threads for work that falls into parts, and who may use them. Nothing here changes a result: parts write to
// places of their own, and whoever joins them does so in their order.

#include <cstddef>
#include <functional>
#include <memory>

#include "wavicon/audio/export.hpp"

namespace wavicon {

namespace audio_detail {
struct WorkGroup;
}

/// How many threads calls of this library may use that are made from this thread, this one included, as long
/// as the object lives: 1 where nobody allows more. Objects nest.
class WAVICON_EXPORT ThreadAllowance {
 public:
  /// @param threads  at least 1; 0: as many as there are cores.
  explicit ThreadAllowance(int threads);
  ~ThreadAllowance();
  ThreadAllowance(const ThreadAllowance&) = delete;
  ThreadAllowance& operator=(const ThreadAllowance&) = delete;

 private:
  int before_;
};

/// What this thread may use: at least 1.
[[nodiscard]] WAVICON_EXPORT int allowed_threads() noexcept;

/// Calls work(0) … work(count - 1), in order where one thread is allowed, else on as many as are, this one
/// among them, in any order. Returns when all are done. Work may divide itself again.
///
/// @throws what the work of the lowest number threw.
WAVICON_EXPORT void for_each_part(std::size_t count, const std::function<void(std::size_t)>& work);

/// The same of parts of this many values each; where that is less than a thread is worth, one after the
/// other.
WAVICON_EXPORT void for_each_part(std::size_t count, std::size_t values,
                                  const std::function<void(std::size_t)>& work);

/// Work that goes on beside its caller, where two threads are allowed, until wait() is called; what has not
/// begun by then is done there.
class WAVICON_EXPORT WorkBeside {
 public:
  explicit WorkBeside(std::function<void()> work);
  /// work(0) … work(count - 1), as for_each_part().
  WorkBeside(std::size_t count, std::function<void(std::size_t)> work);
  /// Waits; what the work throws is lost, unless wait() was called.
  ~WorkBeside();
  WorkBeside(WorkBeside&&) noexcept;
  WorkBeside& operator=(WorkBeside&&) = delete;
  /// Returns when it is done; once. @throws what it threw.
  void wait();

 private:
  std::shared_ptr<audio_detail::WorkGroup> group_;
};

}  // namespace wavicon
