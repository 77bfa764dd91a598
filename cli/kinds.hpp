// SPDX-License-Identifier: MIT
#pragma once
// What kind of value an option takes: shown in its help, in the manual, and offered by completion.

#include <CLI/CLI.hpp>
#include <string>
#include <string_view>
#include <vector>

namespace wavicon::cli {

/// A kind of value by the word that help shows: "AUDIO", "UNIT", "LIMIT"; "square|sine" for words that are
/// allowed, "AUDIO|RECIPE" for several kinds; empty: a text or a number of its own.
[[nodiscard]] std::string kind_of(const CLI::Option& option, std::string_view command);

/// How files of a kind end: ".wav" and its like; empty: any file. @param folders  set where it is a folder.
[[nodiscard]] std::vector<std::string> endings_of(std::string_view kind, bool& folders, bool& files);

/// Writes the kinds of a command's options, and of those below it, where the help has them.
void name_kinds(CLI::App& command);

}  // namespace wavicon::cli
