// SPDX-License-Identifier: MIT
#pragma once
// The manual, put together of the commands' options, the catalogue of readings and docs/.

#include <CLI/CLI.hpp>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/present/manual_page.hpp"

namespace wavicon::cli {

/// The page of a command, of which `app` holds that one alone.
[[nodiscard]] ManualPage command_page(CLI::App& app);
/// The page of the program, of which `app` holds all commands.
[[nodiscard]] ManualPage program_page(CLI::App& app);
/// Names of the pages that are about no command: "recipes", "units".
[[nodiscard]] const std::vector<std::string>& manual_topics();
/// The page of a topic; none for another name.
[[nodiscard]] std::optional<ManualPage> topic_page(const std::string& topic);

}  // namespace wavicon::cli
