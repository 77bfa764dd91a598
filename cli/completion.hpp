// SPDX-License-Identifier: MIT
#pragma once
// What shells read to finish what is typed behind the program.

#include <string>

namespace wavicon::cli {

/// What a shell is to read. @param shell  "bash", "zsh" or "fish"; empty for any other.
[[nodiscard]] std::string completion_script(const std::string& shell);

}  // namespace wavicon::cli
