// SPDX-License-Identifier: MIT
#pragma once
// A file's bytes for who asks for a few thousand at a time: read from the disk in long pieces as soon as they
// are asked for one after the other. Not for several threads. Internal to `file`.

#include <cstdint>
#include <filesystem>
#include <memory>

namespace wavicon::file_detail {

class ReadInPieces {
 public:
  ReadInPieces() = default;
  ~ReadInPieces();
  ReadInPieces(const ReadInPieces&) = delete;
  ReadInPieces& operator=(const ReadInPieces&) = delete;

  /// @return false when it cannot be opened (errno says why).
  [[nodiscard]] bool open(const std::filesystem::path& path) noexcept;
  [[nodiscard]] std::int64_t size() const noexcept;
  /// Bytes read; fewer than asked at the end, or where the disk fails.
  [[nodiscard]] std::int64_t read(void* bytes, std::int64_t count) noexcept;
  /// @param whence  SEEK_SET, SEEK_CUR or SEEK_END. @return the new place, or -1.
  std::int64_t seek(std::int64_t offset, int whence) noexcept;

 private:
  bool fill() noexcept;

  int descriptor_ = -1;
  std::int64_t place_ = 0;
  std::unique_ptr<char[]> held_;
  std::int64_t first_ = 0, count_ = 0;  // of what is held
  std::int64_t piece_ = 0;              // bytes read at once, the last time
};

}  // namespace wavicon::file_detail
