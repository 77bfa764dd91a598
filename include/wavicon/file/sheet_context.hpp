// SPDX-License-Identifier: MIT
#pragma once
// What sheets depend on, to be kept with them.

#include <cstdint>
#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// SHA-256 (FIPS 180-4) as "sha256:" and 64 hexadecimal digits.
[[nodiscard]] WAVICON_EXPORT std::string digest_of(std::string_view bytes);
/// Of a file's bytes. @throws Error bad_input when it cannot be read.
[[nodiscard]] WAVICON_EXPORT std::string digest_of_file(const std::filesystem::path& path);

/// Seconds since 1970, UTC; SOURCE_DATE_EPOCH of the environment in its place, so that the same command gives
/// the same bytes (https://reproducible-builds.org/specs/source-date-epoch/).
[[nodiscard]] WAVICON_EXPORT std::int64_t current_time_s();
/// This machine's name.
[[nodiscard]] WAVICON_EXPORT std::string machine_name();

/// Gives each sheet a context: the program's version and arithmetic, and recipe and chain of its capture.
///
/// @param options  that were given for it. @param made_s  when it was measured.
WAVICON_EXPORT void add_context(std::vector<Sheet>& sheets,
                                const std::vector<std::pair<std::string, std::string>>& options,
                                std::int64_t made_s);

/// A unit as a capture keeps it: as it was written, and which program or plugin that was.
///
/// @param binary  of a plugin; empty: it is this program's own.
[[nodiscard]] WAVICON_EXPORT std::string unit_identity(const std::string& written,
                                                       const std::filesystem::path& binary);

}  // namespace wavicon
