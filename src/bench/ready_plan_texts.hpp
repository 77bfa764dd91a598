// SPDX-License-Identifier: MIT
#pragma once
// Texts of plans/, put into the library when it is built. Internal to `bench`.

#include <utility>
#include <vector>

namespace wavicon::bench_detail {

/// Names and texts, by name.
[[nodiscard]] const std::vector<std::pair<const char*, const char*>>& ready_plan_texts();

}  // namespace wavicon::bench_detail
