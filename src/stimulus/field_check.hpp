// SPDX-License-Identifier: MIT
#pragma once
// Whether values keep the ranges of their fields, and whether the fields of a part agree. Internal to
// `stimulus`.

#include <string>

#include "wavicon/stimulus/recipe.hpp"

namespace wavicon::stimulus_detail {

/// "12 is not …", or empty when the value is in range.
[[nodiscard]] std::string range_problem(double value, const Range& range, double sample_rate_hz);
/// "'x' is not one of a, b", or empty.
[[nodiscard]] std::string word_problem(const std::string& word, const std::vector<std::string>& allowed);
/// "has 5000 values; 4096 are the most", or empty.
[[nodiscard]] std::string count_problem(std::size_t count, std::size_t most);
/// "'../x' holds '/'; …", or empty when files can be called so.
[[nodiscard]] std::string name_problem(const std::string& name);
/// What is wrong with the first value out of range, with its key; empty when all are in range.
[[nodiscard]] std::string part_problem(const RecipePart& part, const Recipe& recipe);
/// The same for what stands outside of the parts, and for the whole length.
[[nodiscard]] std::string recipe_problem(const Recipe& recipe);

}  // namespace wavicon::stimulus_detail
