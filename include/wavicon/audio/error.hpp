// SPDX-License-Identifier: MIT
#pragma once
// The one root of all exceptions that Wavicon throws. Not measurable is a result with a reason, not an Error.

#include <stdexcept>
#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Why a call could not be carried out; stable, for programs to branch on.
enum class ErrorCode {
  bad_argument,  ///< a parameter, option, setting or name is not allowed
  bad_input,     ///< audio or a file cannot be read, or is unfit to be measured
  bad_output,    ///< a file may not be written there: found before any work is done
  unit_failed,   ///< a plugin or server did not do its work
  write_failed,  ///< a write that was begun failed: the disk is full, a pipe closed
};

/// Message = what is wrong, what was given, what is allowed, where (file, frame, channel, setting).
class WAVICON_EXPORT Error : public std::runtime_error {
 public:
  Error(ErrorCode code, const std::string& message) : std::runtime_error(message), code_(code) {}
  [[nodiscard]] ErrorCode code() const noexcept { return code_; }

 private:
  ErrorCode code_;
};

}  // namespace wavicon
