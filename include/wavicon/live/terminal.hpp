// SPDX-License-Identifier: MIT
#pragma once
// A terminal that cells are shown on and keys come from. Left as it was found, after a crash as well.

#include <memory>
#include <optional>

#include "wavicon/audio/export.hpp"
#include "wavicon/live/canvas.hpp"

namespace wavicon {

class WAVICON_EXPORT Terminal {
 public:
  /// @param colour  false: bold and plain alone. @throws Error bad_output where there is no terminal, or none
  /// that can place a character. One at a time.
  explicit Terminal(bool colour);
  ~Terminal();
  Terminal(const Terminal&) = delete;
  Terminal& operator=(const Terminal&) = delete;

  [[nodiscard]] int width() const;
  [[nodiscard]] int height() const;
  /// Its characters are no Unicode.
  [[nodiscard]] bool only_ascii() const;
  /// The next key, a character or a WatchKey; none when none came in that time.
  [[nodiscard]] std::optional<int> key(double wait_s);
  /// Sends what has changed.
  void show(const Canvas& canvas);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace wavicon
