// SPDX-License-Identifier: MIT
#pragma once
// The whole program as a call: what main() does, and what tests run with calls that fail.

#include <string>

namespace wavicon::cli {

/// @return the exit status; everything that was thrown was told in a line on standard error.
int run_program(int argc, char** argv);

/// The command that runs, as a shell would take it.
const std::string& command_line();
/// A word as a shell would take it.
std::string shell_word(const std::string& word);

/// What went wrong, in our words, and the exit status for it.
struct Failure {
  std::string line;
  int status;
};
/// Of the exception that is being handled: raw messages of the standard library never reach a user.
Failure current_failure();

}  // namespace wavicon::cli
