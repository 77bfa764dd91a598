// SPDX-License-Identifier: MIT
#pragma once
// Names of files without what they share. No file is touched.

#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct ShortNames {
  std::string shared;               ///< before what differs, without what stands between: "tern"
  std::vector<std::string> labels;  ///< what differs, one for each file: "1", "16"
  std::vector<std::string> spoken;  ///< the same for a sentence: "run-1" where the label is a bare number
  std::string pattern;  ///< "tern-*-times.wav"; empty where the names begin with nothing in common
};

/// Names without their folders, where that tells them apart, and without what all share at both ends, up to
/// whole words. Of one file its name.
[[nodiscard]] WAVICON_EXPORT ShortNames short_names(const std::vector<std::string>& files);
/// Of the files that were captured.
[[nodiscard]] WAVICON_EXPORT ShortNames capture_names(const std::vector<Sheet>& sheets);

}  // namespace wavicon
