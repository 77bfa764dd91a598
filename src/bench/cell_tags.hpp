// SPDX-License-Identifier: MIT
#pragma once
// By which tags the logbook knows cells. Internal to `bench`.

#include "wavicon/bench/logbook.hpp"
#include "wavicon/bench/plan.hpp"

namespace wavicon::bench_detail {

inline constexpr const char *kPlanTag = "plan", *kCellTag = "cell";

/// The plan and the cell's values: the same for every build of what is measured.
[[nodiscard]] inline Tags tags_of(const Plan& plan, const Cell& cell) {
  Tags tags = {{kPlanTag, plan.name}};
  tags.insert(tags.end(), cell.values.begin(), cell.values.end());
  return tags;
}

}  // namespace wavicon::bench_detail
