// SPDX-License-Identifier: MIT
#if WAVICON_LV2
#include "lv2_state.hpp"

#include <fmt/format.h>
#include <lv2/presets/presets.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <optional>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon::path_detail {
namespace {

constexpr const char* kLabel = "http://www.w3.org/2000/01/rdf-schema#label";

struct Values {
  UnitInfo& info;
  UridMap& urids;
};

std::optional<double> number_of(UridMap& urids, const void* value, std::uint32_t size, std::uint32_t type) {
  const auto as = [&](auto number) -> std::optional<double> {
    if (size != sizeof number) return std::nullopt;
    std::memcpy(&number, value, sizeof number);
    return static_cast<double>(number);
  };
  if (type == urids.map(LV2_ATOM__Float)) return as(0.0F);
  if (type == urids.map(LV2_ATOM__Double)) return as(0.0);
  if (type == urids.map(LV2_ATOM__Int) || type == urids.map(LV2_ATOM__Bool)) return as(std::int32_t{0});
  if (type == urids.map(LV2_ATOM__Long)) return as(std::int64_t{0});
  return std::nullopt;
}

void take_value(const char* symbol, void* data, const void* value, std::uint32_t size, std::uint32_t type) {
  auto& values = *static_cast<Values*>(data);
  const auto number = number_of(values.urids, value, size, type);
  for (SettingInfo& setting : values.info.settings)
    if (setting.symbol == symbol && number && std::isfinite(*number))
      setting.default_value = std::clamp(*number, std::min(setting.minimum, setting.maximum),
                                         std::max(setting.minimum, setting.maximum));
}

}  // namespace

LV2_URID_Map* map_of(UridMap& urids) { return static_cast<LV2_URID_Map*>(urids.map_feature()->data); }
LV2_URID_Unmap* unmap_of(UridMap& urids) { return static_cast<LV2_URID_Unmap*>(urids.unmap_feature()->data); }

std::vector<Preset> presets_of(LilvWorld* world, const LilvPlugin* plugin) {
  const Node kind(lilv().new_uri(world, LV2_PRESETS__Preset)), label(lilv().new_uri(world, kLabel));
  std::vector<Preset> presets;
  LilvNodes* found = lilv().plugin_get_related(plugin, kind.get());
  WAVICON_LILV_EACH(nodes, i, found) {
    const LilvNode* preset = lilv().nodes_get(found, i);
    lilv().world_load_resource(world, preset);
    const Node text(lilv().world_get(world, preset, label.get(), nullptr));
    const std::string uri = lilv().node_as_string(preset);
    presets.push_back({text ? lilv().node_as_string(text.get()) : uri, uri});
  }
  lilv().nodes_free(found);
  std::sort(presets.begin(), presets.end(), [](const auto& a, const auto& b) { return a.label < b.label; });
  return presets;
}

State open_preset(LilvWorld* world, UridMap& urids, const Plugin& plugin, const std::string& name) {
  std::vector<std::string> labels;
  for (const bool everywhere : {false, true}) {
    if (everywhere) lilv().world_load_all(world);
    labels.clear();
    for (const Preset& preset : presets_of(world, plugin.lilv)) {
      labels.push_back(preset.label);
      if (preset.label != name && preset.uri != name) continue;
      const Node node(lilv().new_uri(world, preset.uri.c_str()));
      if (State state{lilv().state_new_from_world(world, map_of(urids), node.get())}) return state;
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{}: preset '{}' cannot be read from its bundle", plugin.info.name, name));
    }
  }
  throw Error(ErrorCode::bad_argument,
              labels.empty()
                  ? fmt::format("{} has no presets, so none called '{}'", plugin.info.name, name)
                  : fmt::format("{} has no preset '{}'{}", plugin.info.name, name, name_hint(name, labels)));
}

State open_saved_state(LilvWorld* world, UridMap& urids, const Plugin& plugin, const std::string& path) {
  namespace fs = std::filesystem;
  std::error_code ignored;
  const fs::path file = fs::is_directory(path, ignored) ? fs::path(path) / "state.ttl" : fs::path(path);
  if (!fs::is_regular_file(file, ignored))
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("{}: state={}: {}", plugin.info.name, path,
                    file == fs::path(path) ? "there is no such file" : "the folder holds no state.ttl"));
  State state(lilv().state_new_from_file(world, map_of(urids), nullptr, file.c_str()));
  const LilvNode* owner = state ? lilv().state_get_plugin_uri(state.get()) : nullptr;
  if (owner == nullptr)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{}: {} holds no saved state of an LV2 plugin", plugin.info.name, file.string()));
  if (!lilv().node_equals(owner, lilv().plugin_get_uri(plugin.lilv)))
    throw Error(ErrorCode::bad_argument, fmt::format("{}: {} is a state of {}", plugin.info.name,
                                                     file.string(), lilv().node_as_string(owner)));
  return state;
}

State default_state(LilvWorld* world, UridMap& urids, const Plugin& plugin) {
  return State(lilv().state_new_from_world(world, map_of(urids), lilv().plugin_get_uri(plugin.lilv)));
}

void take_values(const LilvState* state, UridMap& urids, UnitInfo& info) {
  Values values{info, urids};
  lilv().state_emit_port_values(state, take_value, &values);
}

}  // namespace wavicon::path_detail
#endif
