// SPDX-License-Identifier: MIT
#pragma once
// A page on paper: printed by the browser that is installed.

#include <filesystem>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Prints an HTML file into a PDF file by a headless Chromium. @throws Error bad_output where none is
/// installed, with what to do, or when it prints nothing.
WAVICON_EXPORT void print_to_pdf(const std::filesystem::path& html, const std::filesystem::path& pdf);

}  // namespace wavicon
