// SPDX-License-Identifier: MIT
#pragma once
// Text that comes from outside (names of files, plugins, cue marks, presets), made fit to be shown or to name
// a file.

#include <string>
#include <string_view>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Longest name that a recipe, a part, or anything else that names files may have, in bytes: with what is
/// added while a file is written, it fits where names have 255.
inline constexpr std::size_t kLongestNameBytes = 180;

/// Whether text is UTF-8 (Unicode 15, table 3-7: no overlong forms, no surrogates, nothing above U+10FFFF).
[[nodiscard]] WAVICON_EXPORT bool is_utf8(std::string_view text) noexcept;

/// Text that a terminal, a table or a picture can show without being steered by it: bytes that are not UTF-8
/// become U+FFFD, control characters (C0, DEL, C1) and what turns the direction of writing become visible:
/// "\x1b", "\u{202e}".
///
/// @param lines  line feeds stay.
[[nodiscard]] WAVICON_EXPORT std::string printable(std::string_view text, bool lines = false);

/// UTF-8 of the same text: what is none becomes U+FFFD.
[[nodiscard]] WAVICON_EXPORT std::string as_utf8(std::string_view text);

/// Printable text in which nothing is markup: of XML and HTML, inside elements and inside quotes.
[[nodiscard]] WAVICON_EXPORT std::string xml_escaped(std::string_view text);

/// What keeps a name from naming a file, as the end of a sentence; empty when nothing does. A name holds
/// letters (of any script), digits, '.', '_', '-' and spaces, does not begin with '.', '-' or a space, does
/// not end with '.' or a space, and has at most kLongestNameBytes.
[[nodiscard]] WAVICON_EXPORT std::string file_name_problem(std::string_view name);

}  // namespace wavicon
