// SPDX-License-Identifier: MIT
#pragma once
// What pages and pictures of a plan's results share. Internal to `bench`.

#include <string>
#include <vector>

#include "wavicon/bench/run.hpp"

namespace wavicon::bench_detail {

[[nodiscard]] bool has_sheets(const CellResult& result);
/// Whether a result is of these measurements: the same name, against the same.
[[nodiscard]] bool is_of(const CellResult& result, const PlanMeasure& measure);
/// Whether a sheet is one of this measurement's.
[[nodiscard]] bool is_of(const Sheet& sheet, const PlanMeasure& measure);
/// The reading that stands for a cell: of several channels and sheets the worst one, or the first; null: it
/// has none.
[[nodiscard]] const Reading* deciding(const CellResult& result, const PlanMeasure& measure,
                                      const std::string& name);
/// Of its table: "null_against", "harmonics_levels".
[[nodiscard]] std::string key_of(const PlanMeasure& measure);
/// "null, each against each", "harmonics of the part levels".
[[nodiscard]] std::string title_of(const PlanMeasure& measure);
/// The readings that tell cells apart: those of the headline, then those that decide, as far as any cell has
/// them.
[[nodiscard]] std::vector<std::string> columns_of(const PlanMeasure& measure,
                                                  const std::vector<CellResult>& results);
/// The same, the one first that answers: of which one value is better than another, unless the plan says
/// which.
[[nodiscard]] std::vector<std::string> first_shown(const PlanMeasure& measure,
                                                   const std::vector<CellResult>& results);
/// Measurements of a plan, each name against the same once.
[[nodiscard]] std::vector<PlanMeasure> shown_measures(const Plan& plan);

}  // namespace wavicon::bench_detail
