// SPDX-License-Identifier: MIT
#pragma once
// Processes, one for each thing that is run, several at once. Internal to `bench`.

#include <sys/types.h>

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace wavicon::bench_detail {

/// A process, and what it has said so far.
struct Worker {
  pid_t pid = -1;
  int from = -1;
  std::size_t index = 0;
  double started_s = 0;
  std::string said;
};

class CellPool {
 public:
  CellPool() = default;
  CellPool(const CellPool&) = delete;
  CellPool& operator=(const CellPool&) = delete;
  ~CellPool();

  [[nodiscard]] std::size_t size() const { return workers_.size(); }
  /// Begins a process that does `work` and hands over the text that it returns, or what it throws.
  void start(std::size_t index, const std::function<std::string()>& work);
  /// Takes what processes have said; one that has ended, where there is one, its text without the first
  /// letter. @param reason  why it failed; empty: it did not.
  [[nodiscard]] std::optional<Worker> take(std::string& reason);

 private:
  std::vector<Worker> workers_;
};

/// Seconds of a clock that never goes back.
[[nodiscard]] double clock_s();

}  // namespace wavicon::bench_detail
