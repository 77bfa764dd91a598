// SPDX-License-Identifier: MIT
#pragma once
// The catalogue of readings as a page to read.

#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

/// Every reading of the tables, in Markdown: a heading for each measurement, a row for each reading, and how
/// a sheet in JSON holds them.
[[nodiscard]] WAVICON_EXPORT std::string readings_manual(const std::vector<const ReadingTable*>& tables);

}  // namespace wavicon
