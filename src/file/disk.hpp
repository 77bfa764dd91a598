// SPDX-License-Identifier: MIT
#pragma once
// The way to the disk of everything that is written: each open, write and rename in one place, checked, and
// made to fail by tests. Internal to `file`.

#include <cstdint>
#include <filesystem>
#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon::file_detail {

enum class DiskCall { open, write, rename, folder };

/// Asked before each call; returns the error number that it fails with, or 0. For tests.
using DiskFault = int (*)(DiskCall call);
/// @return the one that was set before; null: none. Not for several threads.
WAVICON_EXPORT DiskFault set_disk_fault(DiskFault fault) noexcept;

/// A new file that is written and read back; closed when it goes. What fails leaves its reason in why().
class DiskFile {
 public:
  DiskFile() = default;
  ~DiskFile();
  DiskFile(const DiskFile&) = delete;
  DiskFile& operator=(const DiskFile&) = delete;

  /// Makes the file; one that is there already, or a link, is not touched.
  [[nodiscard]] bool create(const std::filesystem::path& path) noexcept;
  /// All of it, or false.
  [[nodiscard]] bool write(const void* bytes, std::size_t count) noexcept;
  [[nodiscard]] bool write(const std::string& text) noexcept { return write(text.data(), text.size()); }
  /// Bytes read; fewer than asked only at the end.
  [[nodiscard]] std::int64_t read(void* bytes, std::int64_t count) noexcept;
  /// @param whence  SEEK_SET, SEEK_CUR or SEEK_END. @return the new place, or -1.
  std::int64_t seek(std::int64_t offset, int whence) noexcept;
  [[nodiscard]] std::int64_t size() const noexcept;
  [[nodiscard]] bool close() noexcept;
  /// The system's words for what failed first; empty when nothing did.
  [[nodiscard]] std::string why() const;

 private:
  bool fail(int error) noexcept;

  int descriptor_ = -1;
  int error_ = 0;
};

/// @return 0, or the error number.
[[nodiscard]] int rename_file(const std::filesystem::path& from, const std::filesystem::path& to) noexcept;
/// Makes a folder and those it lies in. @return 0, or the error number.
[[nodiscard]] int create_folders(const std::filesystem::path& folder);

}  // namespace wavicon::file_detail
