// SPDX-License-Identifier: MIT
#pragma once
// What the tables of several sheets share. Internal to `present`.

#include <cstddef>
#include <string>
#include <vector>

#include "wavicon/present/table.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/sheet/short_names.hpp"

namespace wavicon::present_detail {

/// How to see what a table leaves out.
inline constexpr const char* kMore = "--all: every reading, with floors";

/// Letters, not bytes of UTF-8.
[[nodiscard]] std::size_t width(const std::string& text);

/// Whether differences of two readings of that unit mean something: levels, loudness, bits.
[[nodiscard]] bool compares(const std::string& unit);

/// What a line is, where it is shown in colour.
enum class Ink { answer, warning, fault, aside };

/// The text in that ink, or as it is where there is no colour. It holds no line end.
[[nodiscard]] std::string inked(const std::string& text, Ink ink, const TableStyle& style);

/// Words in lines of at most so many columns; a word that is wider has a line of its own.
///
/// @param first, further  before the first line, and before the others. Without a line end behind the last.
[[nodiscard]] std::string wrapped_text(const std::string& text, const std::string& first,
                                       const std::string& further, std::size_t columns);

/// Words in lines of at most so many columns, for the head of a column.
[[nodiscard]] std::vector<std::string> head_lines(const std::string& words, std::size_t columns = 14);

}  // namespace wavicon::present_detail
