#pragma once
// The kinds of unit, each behind its scheme. Internal to `path`.

#include <memory>
#include <vector>

#include "wavicon/path/unit.hpp"

namespace wavicon::path_detail {

/// Channels of one instance against those of the signal.
struct Instances {
  int count = 1;         ///< instances side by side
  bool doubled = false;  ///< one channel feeds both inputs
  int outputs = 1;       ///< channels that come out of all instances
};
/// @throws Error bad_argument when they do not fit.
[[nodiscard]] Instances fit_channels(const UnitInfo& info, int channel_count);

[[nodiscard]] std::unique_ptr<Unit> open_stand_in(const UnitSpec& spec);
[[nodiscard]] std::vector<UnitListing> list_stand_ins();

[[nodiscard]] std::unique_ptr<Unit> open_lv2(const UnitSpec& spec, const UnitSearch& search);
[[nodiscard]] std::vector<UnitListing> list_lv2(const UnitSearch& search);

[[nodiscard]] std::unique_ptr<Unit> open_ladspa(const UnitSpec& spec, const UnitSearch& search);
[[nodiscard]] std::vector<UnitListing> list_ladspa(const UnitSearch& search);

}  // namespace wavicon::path_detail
