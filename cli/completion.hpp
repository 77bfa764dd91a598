// SPDX-License-Identifier: MIT
#pragma once
// What may stand where a command line is being typed.

#include <string>
#include <vector>

namespace wavicon::cli {

/// A word that may stand there, and what it is.
struct Offer {
  std::string word;
  std::string about;
};

struct Offers {
  std::vector<Offer> words;
  std::vector<std::string> endings;  ///< of files; empty with `files`: any
  bool files = false;
  bool folders = false;
};

/// @param words  behind the program's name; the last is the one that is being typed, maybe empty.
[[nodiscard]] Offers offers_for(const std::vector<std::string>& words);

/// A line as a shell takes it apart, up to its end.
struct TypedLine {
  std::vector<std::string> words;  ///< without quotes; the last is the one that is being typed
  bool quoted = false;             ///< within quotes at the end
};
[[nodiscard]] TypedLine typed_line(const std::string& line);

/// What a shell is to read. @param shell  "bash", "zsh" or "fish"; empty for any other.
[[nodiscard]] std::string completion_script(const std::string& shell);

}  // namespace wavicon::cli
