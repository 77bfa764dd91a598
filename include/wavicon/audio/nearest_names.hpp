// SPDX-License-Identifier: MIT
#pragma once
// Suggestions for mistyped names in error messages.

#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// The candidates closest to what was typed, best first, at most three; those that are no nearer than chance
/// are left out.
[[nodiscard]] WAVICON_EXPORT std::vector<std::string> nearest_names(
    std::string_view typed, const std::vector<std::string>& candidates);

/// "; did you mean 'a', 'b'?", or the whole list ("; there are: a, b") when it is short and nothing is near;
/// or nothing.
[[nodiscard]] WAVICON_EXPORT std::string name_hint(std::string_view typed,
                                                   const std::vector<std::string>& candidates);

}  // namespace wavicon
