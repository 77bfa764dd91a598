#pragma once
// Whether a file is as long as its own header says. Internal to `file`.

#include <filesystem>
#include <string>

namespace wavicon::file_detail {

/// For WAV, RF64 and AIFF: empty when complete, otherwise what is missing, as a sentence. Empty for other
/// files.
[[nodiscard]] std::string missing_part(const std::filesystem::path& path);

}  // namespace wavicon::file_detail
