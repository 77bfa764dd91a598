// SPDX-License-Identifier: MIT
#pragma once
// What the data of an LV2 plugin says: its ports, settings and needs. Nothing of the plugin's own code runs
// here. Internal to `path`.

#include "lilv_calls.hpp"

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/path/unit.hpp"

namespace wavicon::path_detail {

struct FreeWorld {
  void operator()(LilvWorld* world) const noexcept { lilv().world_free(world); }
};
using World = std::unique_ptr<LilvWorld, FreeWorld>;

struct FreeNode {
  void operator()(LilvNode* node) const noexcept { lilv().node_free(node); }
};
using Node = std::unique_ptr<LilvNode, FreeNode>;

enum class PortKind {
  audio_in,
  audio_out,
  control_in,
  control_out,
  cv_in,
  cv_out,
  atom_in,
  atom_out,
  unknown
};

struct Port {
  PortKind kind = PortKind::unknown;
  bool optional = false;               ///< may be left unconnected
  std::optional<std::size_t> setting;  ///< index into UnitInfo::settings
  float resting = 0;                   ///< value of a control or CV input without setting
};

struct Plugin {
  const LilvPlugin* lilv = nullptr;  ///< valid as long as its world
  UnitInfo info;
  std::vector<Port> ports;  ///< by index
  std::optional<std::uint32_t> latency_port;
  bool wants_default_state = false;
  std::vector<std::string> required_features;
};

/// @param sample_rate_hz  for settings given in multiples of it.
[[nodiscard]] Plugin describe(LilvWorld* world, const LilvPlugin* plugin, const std::string& name,
                              double sample_rate_hz);

/// Why the plugin cannot carry a signal, from its data alone; empty when it can.
[[nodiscard]] std::string refusal(const Plugin& plugin, int block_frames);

}  // namespace wavicon::path_detail
