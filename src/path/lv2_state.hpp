// SPDX-License-Identifier: MIT
#pragma once
// Presets and saved states of LV2 plugins: values of settings, and what a plugin keeps beside them. Internal
// to `path`.

#include <memory>
#include <string>
#include <vector>

#include "lv2_features.hpp"
#include "lv2_plugin.hpp"

namespace wavicon::path_detail {

struct FreeState {
  void operator()(LilvState* state) const noexcept { lilv().state_free(state); }
};
using State = std::unique_ptr<LilvState, FreeState>;

[[nodiscard]] LV2_URID_Map* map_of(UridMap& urids);
[[nodiscard]] LV2_URID_Unmap* unmap_of(UridMap& urids);

/// A preset that some bundle holds for a plugin.
struct Preset {
  std::string label;
  std::string uri;
};
/// By label; those of all bundles that the world has loaded.
[[nodiscard]] std::vector<Preset> presets_of(LilvWorld* world, const LilvPlugin* plugin);

/// The preset of that label or URI; the system is scanned when no bundle loaded so far has it.
///
/// @throws Error bad_argument with the nearest labels.
[[nodiscard]] State open_preset(LilvWorld* world, UridMap& urids, const Plugin& plugin,
                                const std::string& name);

/// A state that was saved for this plugin: a Turtle file, or the folder that holds it as state.ttl.
///
/// @throws Error bad_argument when there is none, or it belongs to another plugin.
[[nodiscard]] State open_saved_state(LilvWorld* world, UridMap& urids, const Plugin& plugin,
                                     const std::string& path);

/// The state that a plugin's own data gives it, for those that want it loaded; none when there is none.
[[nodiscard]] State default_state(LilvWorld* world, UridMap& urids, const Plugin& plugin);

/// Makes the values that a state holds the defaults of the plugin's settings.
void take_values(const LilvState* state, UridMap& urids, UnitInfo& info);

}  // namespace wavicon::path_detail
