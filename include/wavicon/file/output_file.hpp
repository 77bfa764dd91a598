// SPDX-License-Identifier: MIT
#pragma once
// Files that appear whole or not at all: written aside, then renamed.

#include <filesystem>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Checks, before any work is done, that a file can be written there.
///
/// @param inputs  files that are read by the same command and must not be overwritten.
/// @throws Error bad_output when the folder is missing, the target is a folder or no regular file, or is one
/// of the inputs.
WAVICON_EXPORT void require_writable(const std::filesystem::path& target,
                                     const std::vector<std::filesystem::path>& inputs = {});

/// The name that a file is written under until it is whole: beside the target (its links followed), unique to
/// this process. Removed when this object goes and commit() was not called.
class WAVICON_EXPORT PartialFile {
 public:
  /// @throws Error bad_output as require_writable().
  explicit PartialFile(const std::filesystem::path& target);
  ~PartialFile();
  PartialFile(const PartialFile&) = delete;
  PartialFile& operator=(const PartialFile&) = delete;

  [[nodiscard]] const std::filesystem::path& path() const noexcept { return partial_; }
  /// Gives the file its name. @throws Error bad_output when that fails; nothing is left then.
  void commit();

 private:
  std::filesystem::path target_;
  std::filesystem::path final_;
  std::filesystem::path partial_;
  bool committed_ = false;
};

/// @throws Error bad_output naming the file and the reason.
WAVICON_EXPORT void write_text_file(const std::filesystem::path& target, const std::string& text);

}  // namespace wavicon
