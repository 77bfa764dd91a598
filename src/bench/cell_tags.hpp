// SPDX-License-Identifier: MIT
#pragma once
// By which tags the logbook knows cells. Internal to `bench`.

#include "wavicon/bench/logbook.hpp"
#include "wavicon/bench/plan.hpp"

namespace wavicon::bench_detail {

inline constexpr const char *kPlanTag = "plan", *kCellTag = "cell", *kAgainTag = "again",
                            *kAgainstTag = "against";

/// The plan and the cell's values: the same for every build of what is measured.
[[nodiscard]] inline Tags tags_of(const Plan& plan, const CellRun& run) {
  Tags tags = {{kPlanTag, plan.name}};
  if (!run.together) tags.insert(tags.end(), run.cell.values.begin(), run.cell.values.end());
  if (!run.together && !run.others.empty()) tags.emplace_back(kAgainstTag, name_of(run.others.front()));
  return tags;
}

}  // namespace wavicon::bench_detail
