// SPDX-License-Identifier: MIT
#pragma once
// Names that plans use, and {holes} in their texts. Internal to `bench`.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/bench/plan.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::bench_detail {

// Rows that every plan may have: what they change is no setting of a unit.
inline constexpr const char *kRate = "rate", *kBlock = "block", *kRepeat = "repeat";
/// A unit that is left out.
inline constexpr const char* kNothing = "nothing";
/// In a limit: the same reading of another cell.
inline constexpr const char* kOther = "other";
/// Of a comparison: against the first cell, against every one before.
inline constexpr const char *kFirst = "first", *kAll = "all";

/// A text that is a finite number, whole.
[[nodiscard]] std::optional<double> number_in(const std::string& text);
/// The row of that name, or null.
[[nodiscard]] const PlanRow* find_row(const Plan& plan, const std::string& name);
[[nodiscard]] std::vector<std::string> row_names(const Plan& plan);
[[nodiscard]] std::vector<std::string> measurement_names();
[[nodiscard]] std::vector<std::string> words_in(const std::string& text);
/// Names between { and } in a text; braces around anything else are left alone.
[[nodiscard]] std::vector<std::string> holes_in(const std::string& text);
/// @param bare_numbers  a hole alone between quotes loses them where a number is put in.
[[nodiscard]] std::string filled_holes(const std::string& text,
                                       const std::vector<std::pair<std::string, std::string>>& texts,
                                       bool bare_numbers);
/// Whether a text is "other", or that with something added.
[[nodiscard]] bool names_other_cell(const std::string& past);
/// Readings that a measurement of a plan can give.
[[nodiscard]] std::vector<std::string> readings_of(const PlanMeasure& measure);
/// Whether it can give one of that name.
[[nodiscard]] bool gives(const PlanMeasure& measure, const std::string& reading);

}  // namespace wavicon::bench_detail
