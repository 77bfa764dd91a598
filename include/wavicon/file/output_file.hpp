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
/// @throws Error bad_output when the folder is missing, the target is a folder or no regular file, may not be
/// written (a file that is read-only is not replaced), or is one of the inputs.
WAVICON_EXPORT void require_writable(const std::filesystem::path& target,
                                     const std::vector<std::filesystem::path>& inputs = {});

/// Checks that several outputs of one command are different files; empty names are none.
///
/// @throws Error bad_output naming two that are the same, by name or through links.
WAVICON_EXPORT void require_apart(const std::vector<std::filesystem::path>& targets);

/// A file of a name that was not typed but read or made up, in a folder that was.
///
/// @param name  a plain file name (file_name_problem()), with its ending.
/// @throws Error bad_argument for any other name; bad_output when what is there leads out of the folder.
[[nodiscard]] WAVICON_EXPORT std::filesystem::path file_below(const std::filesystem::path& folder,
                                                              const std::string& name);

/// A text as part of a file's name: all but letters, digits, '.', '-', '_' and '+' becomes '-'.
[[nodiscard]] WAVICON_EXPORT std::string tame_name(std::string text);

/// Checks on the resolved path that a file lies in a folder itself. @throws Error bad_output when a link
/// leads out of it.
WAVICON_EXPORT void require_below(const std::filesystem::path& folder, const std::filesystem::path& target);

/// Makes a folder and those it lies in. @throws Error bad_output with the reason.
WAVICON_EXPORT void make_folder(const std::filesystem::path& folder);

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
  /// Gives the file its name. @throws Error write_failed when that fails; nothing is left then.
  void commit();

 private:
  friend void abandon_partial_files() noexcept;

  std::filesystem::path target_;
  std::filesystem::path final_;
  std::filesystem::path partial_;
  bool committed_ = false;
  PartialFile *before_ = nullptr, *after_ = nullptr;  ///< in the list of those that are being written
};

/// Removes every file that is being written, for a process that ends here and now: allocates nothing, and may
/// be called where memory has run out, and at a signal.
WAVICON_EXPORT void abandon_partial_files() noexcept;

/// @throws Error bad_output as require_writable(), write_failed naming the file and the reason.
WAVICON_EXPORT void write_text_file(const std::filesystem::path& target, const std::string& text);

}  // namespace wavicon
