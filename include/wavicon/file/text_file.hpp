// SPDX-License-Identifier: MIT
#pragma once
// Texts that are read as a whole.

#include <cstdint>
#include <filesystem>
#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon {

inline constexpr std::uint64_t kLongestTextBytes = std::uint64_t{1} << 30;

/// The bytes of a file. @param what  it is, for messages: "plan".
/// @throws Error bad_input when there is no such file, it cannot be read, or it is longer than that.
[[nodiscard]] WAVICON_EXPORT std::string read_text_file(const std::filesystem::path& path,
                                                        const std::string& what,
                                                        std::uint64_t longest_bytes = kLongestTextBytes);

}  // namespace wavicon
