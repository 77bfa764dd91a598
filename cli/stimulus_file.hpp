// SPDX-License-Identifier: MIT
#pragma once
// A recipe as a file, with all that travels inside it.

#include <string>

#include "wavicon/stimulus/recipe.hpp"

namespace wavicon::cli {

/// Renders and writes it; says what it is unless quiet, warns of what clips.
void write_stimulus(const Recipe& recipe, const std::string& file, bool quiet);

}  // namespace wavicon::cli
