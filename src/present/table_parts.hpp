// SPDX-License-Identifier: MIT
#pragma once
// What the tables of several sheets share. Internal to `present`.

#include <cstddef>
#include <string>
#include <vector>

#include "wavicon/sheet/sheet.hpp"

namespace wavicon::present_detail {

/// Letters, not bytes of UTF-8.
[[nodiscard]] std::size_t width(const std::string& text);

/// Whether differences of two readings of that unit mean something: levels, loudness, bits.
[[nodiscard]] bool compares(const std::string& unit);

/// The files' names without their folders, where that tells them apart.
[[nodiscard]] std::vector<std::string> short_names(const std::vector<Sheet>& sheets);

}  // namespace wavicon::present_detail
