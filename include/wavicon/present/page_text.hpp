// SPDX-License-Identifier: MIT
#pragma once
// Pages for a terminal.

#include <string>

#include "wavicon/audio/export.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/sheet/page.hpp"

namespace wavicon {

/// The answer, the tables, the remarks; figures with the digits that their uncertainty leaves, which stands
/// behind them. Safe to be shown on a terminal.
[[nodiscard]] WAVICON_EXPORT std::string page_text(const Page& page, const TableStyle& style = {});

/// The first sentence of the answer, for a title.
[[nodiscard]] WAVICON_EXPORT std::string page_title(const Page& page);

}  // namespace wavicon
