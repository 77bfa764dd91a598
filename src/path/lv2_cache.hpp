// SPDX-License-Identifier: MIT
#pragma once
// What the data of installed LV2 bundles said, kept between runs: with hundreds of plugins it takes seconds
// to read. Internal to `path`.

#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/path/unit.hpp"

namespace wavicon::path_detail {

/// What was listed of a bundle, and what its files were like then.
struct Lv2Bundle {
  std::string stamp;
  std::vector<UnitListing> plugins;
};

/// By the bundle's folder.
using Lv2Bundles = std::map<std::string, Lv2Bundle>;

/// @param program  what wrote it: listings of another version are not taken.
[[nodiscard]] WAVICON_EXPORT std::string lv2_cache_text(const Lv2Bundles& bundles,
                                                        const std::string& program);
/// @return none for anything that was not written by lv2_cache_text() of the same program, to its end.
[[nodiscard]] WAVICON_EXPORT std::optional<Lv2Bundles> parse_lv2_cache(std::string_view text,
                                                                       const std::string& program);

/// Bundles in these folders as they are now, nothing listed of them.
[[nodiscard]] WAVICON_EXPORT Lv2Bundles bundles_in(const std::vector<std::filesystem::path>& folders);

/// The folders that are searched: LV2_PATH, else those of the system and the user.
[[nodiscard]] std::vector<std::filesystem::path> lv2_folders();

}  // namespace wavicon::path_detail
