// SPDX-License-Identifier: MIT
#if WAVICON_LV2
#include "lv2_plugin.hpp"

#include <fmt/format.h>
#include <lv2/atom/atom.h>
#include <lv2/core/lv2.h>
#include <lv2/port-groups/port-groups.h>
#include <lv2/port-props/port-props.h>
#include <lv2/state/state.h>
#include <lv2/units/units.h>

#include <algorithm>
#include <cmath>

#include "lv2_features.hpp"
#include "schemes.hpp"

namespace wavicon::path_detail {
namespace {

constexpr const char* kSideChain = LV2_CORE_PREFIX "isSideChain";
constexpr double kNoRange = 1e6;  // stands for the bound of a setting that states none

Node uri_node(LilvWorld* world, const char* uri) { return Node(lilv().new_uri(world, uri)); }

bool port_is(LilvWorld* world, const LilvPlugin* plugin, const LilvPort* port, const char* type) {
  return lilv().port_is_a(plugin, port, uri_node(world, type).get());
}

bool has_property(LilvWorld* world, const LilvPlugin* plugin, const LilvPort* port, const char* property) {
  return lilv().port_has_property(plugin, port, uri_node(world, property).get());
}

PortKind kind_of(LilvWorld* world, const LilvPlugin* plugin, const LilvPort* port) {
  const bool in = port_is(world, plugin, port, LV2_CORE__InputPort);
  if (port_is(world, plugin, port, LV2_CORE__AudioPort)) return in ? PortKind::audio_in : PortKind::audio_out;
  if (port_is(world, plugin, port, LV2_CORE__ControlPort))
    return in ? PortKind::control_in : PortKind::control_out;
  if (port_is(world, plugin, port, LV2_CORE__CVPort)) return in ? PortKind::cv_in : PortKind::cv_out;
  if (port_is(world, plugin, port, LV2_ATOM__AtomPort)) return in ? PortKind::atom_in : PortKind::atom_out;
  return PortKind::unknown;
}

std::string unit_of(LilvWorld* world, const LilvPlugin* plugin, const LilvPort* port) {
  const Node unit(lilv().port_get(plugin, port, uri_node(world, LV2_UNITS__unit).get()));
  if (!unit) return "";
  if (!lilv().node_is_uri(unit.get())) {
    const Node symbol(lilv().world_get(world, unit.get(), uri_node(world, LV2_UNITS__symbol).get(), nullptr));
    return symbol ? lilv().node_as_string(symbol.get()) : "";
  }
  const std::string uri = lilv().node_as_uri(unit.get()), prefix = LV2_UNITS_PREFIX;
  const std::string name = uri.rfind(prefix, 0) == 0 ? uri.substr(prefix.size()) : "";
  for (const auto& [key, text] :
       std::initializer_list<std::pair<const char*, const char*>>{{"db", "dB"},
                                                                  {"hz", "Hz"},
                                                                  {"khz", "kHz"},
                                                                  {"pc", "%"},
                                                                  {"degree", "degrees"},
                                                                  {"semitone12TET", "semitones"},
                                                                  {"cent", "cents"},
                                                                  {"coef", ""},
                                                                  {"frame", "frames"}})
    if (name == key) return text;
  return name;
}

double value_or(const LilvNode* node, double otherwise) {
  const double value = node != nullptr ? lilv().node_as_float(node) : NAN;
  return std::isfinite(value) ? value : otherwise;
}

std::vector<SettingChoice> choices_of(const LilvPlugin* plugin, const LilvPort* port) {
  std::vector<SettingChoice> choices;
  LilvScalePoints* points = lilv().port_get_scale_points(plugin, port);
  WAVICON_LILV_EACH(scale_points, i, points) {
    const LilvScalePoint* point = lilv().scale_points_get(points, i);
    choices.push_back({lilv().node_as_string(lilv().scale_point_get_label(point)),
                       value_or(lilv().scale_point_get_value(point), 0)});
  }
  lilv().scale_points_free(points);
  std::stable_sort(choices.begin(), choices.end(),
                   [](const auto& a, const auto& b) { return a.value < b.value; });
  return choices;
}

SettingInfo setting_of(LilvWorld* world, const LilvPlugin* plugin, const LilvPort* port,
                       double sample_rate_hz, std::vector<std::string>& remarks) {
  LilvNode *initial = nullptr, *low = nullptr, *high = nullptr;
  lilv().port_get_range(plugin, port, &initial, &low, &high);
  const Node hold_initial(initial), hold_low(low), hold_high(high);
  const Node name(lilv().port_get_name(plugin, port));
  SettingInfo setting;
  setting.symbol = lilv().node_as_string(lilv().port_get_symbol(plugin, port));
  setting.name = name ? lilv().node_as_string(name.get()) : setting.symbol;
  setting.unit = unit_of(world, plugin, port);
  setting.toggle = has_property(world, plugin, port, LV2_CORE__toggled);
  setting.integer = has_property(world, plugin, port, LV2_CORE__integer);
  setting.logarithmic = has_property(world, plugin, port, LV2_PORT_PROPS__logarithmic);
  setting.choices = choices_of(plugin, port);
  setting.choices_only = has_property(world, plugin, port, LV2_CORE__enumeration) && !setting.choices.empty();
  const double scale = has_property(world, plugin, port, LV2_CORE__sampleRate) ? sample_rate_hz : 1.0;
  setting.minimum = value_or(low, setting.toggle ? 0 : -kNoRange) * scale;
  setting.maximum = value_or(high, setting.toggle ? 1 : kNoRange) * scale;
  put_range_right(setting, remarks);
  setting.default_value = initial != nullptr ? lilv().node_as_float(initial) * scale
                                             : std::clamp(0.0, setting.minimum, setting.maximum);
  put_default_right(setting, remarks);
  return setting;
}

// The group of the port is the side chain of another group (LV2 port groups, pg:sideChainOf).
bool in_side_chain_group(LilvWorld* world, const LilvPlugin* plugin, const LilvPort* port) {
  const Node group(lilv().port_get(plugin, port, uri_node(world, LV2_PORT_GROUPS__group).get()));
  if (!group || lilv().node_is_literal(group.get())) return false;
  return Node(lilv().world_get(world, group.get(), uri_node(world, LV2_PORT_GROUPS__sideChainOf).get(),
                               nullptr)) != nullptr;
}

bool designated(LilvWorld* world, const LilvPlugin* plugin, const LilvPort* port, const char* designation) {
  const Node found(lilv().port_get(plugin, port, uri_node(world, LV2_CORE__designation).get()));
  return found && lilv().node_is_uri(found.get()) &&
         std::string(lilv().node_as_uri(found.get())) == designation;
}

std::vector<std::string> features_of(const LilvPlugin* plugin) {
  std::vector<std::string> uris;
  LilvNodes* nodes = lilv().plugin_get_required_features(plugin);
  WAVICON_LILV_EACH(nodes, i, nodes) uris.emplace_back(lilv().node_as_string(lilv().nodes_get(nodes, i)));
  lilv().nodes_free(nodes);
  return uris;
}

}  // namespace

Plugin describe(LilvWorld* world, const LilvPlugin* described, const std::string& name,
                double sample_rate_hz) {
  Plugin plugin;
  plugin.lilv = described;
  const Node title(lilv().plugin_get_name(described)), maker(lilv().plugin_get_author_name(described));
  plugin.info = {name,
                 title ? lilv().node_as_string(title.get()) : "",
                 maker ? lilv().node_as_string(maker.get()) : "",
                 0,
                 0,
                 {},
                 {},
                 false,
                 ""};
  if (const LilvNode* library = lilv().plugin_get_library_uri(described))
    if (char* path = lilv().node_get_path(library, nullptr)) {
      plugin.info.binary = path;
      lilv().free(path);
    }
  plugin.required_features = features_of(described);
  plugin.info.takes_state =
      lilv().plugin_has_extension_data(described, uri_node(world, LV2_STATE__interface).get());
  plugin.wants_default_state =
      lilv().plugin_has_feature(described, uri_node(world, LV2_STATE__loadDefaultState).get());
  const std::uint32_t count = lilv().plugin_get_num_ports(described);
  for (std::uint32_t i = 0; i < count; ++i) {
    const LilvPort* port = lilv().plugin_get_port_by_index(described, i);
    Port p;
    p.kind = kind_of(world, described, port);
    p.optional = has_property(world, described, port, LV2_CORE__connectionOptional);
    const bool side_chain =
        has_property(world, described, port, kSideChain) || in_side_chain_group(world, described, port);
    if (p.kind == PortKind::audio_in && !side_chain) ++plugin.info.input_count;
    if (p.kind == PortKind::audio_in && side_chain)
      p.kind = PortKind::cv_in;  // fed with silence like a resting CV input
    if (p.kind == PortKind::audio_out) ++plugin.info.output_count;
    if (p.kind == PortKind::control_in) {
      p.setting = plugin.info.settings.size();
      plugin.info.settings.push_back(setting_of(world, described, port, sample_rate_hz, plugin.info.remarks));
      SettingInfo& setting = plugin.info.settings.back();
      if (designated(world, described, port, LV2_CORE__enabled)) {
        plugin.info.enabled_setting = setting.symbol;
        setting.default_value = 1;
      }
    }
    if (p.kind == PortKind::control_out && (has_property(world, described, port, LV2_CORE__reportsLatency) ||
                                            designated(world, described, port, LV2_CORE__latency)))
      plugin.latency_port = i;
    plugin.ports.push_back(p);
  }
  return plugin;
}

std::string refusal(const Plugin& plugin, int block_frames) {
  if (plugin.info.input_count == 0) return "it has no audio input";
  if (plugin.info.output_count == 0) return "it has no audio output";
  if (plugin.info.input_count > 2 || plugin.info.output_count > 2)
    return fmt::format("it has {} inputs and {} outputs; 1 or 2 of each can be hosted",
                       plugin.info.input_count, plugin.info.output_count);
  for (const Port& port : plugin.ports)
    if (port.kind == PortKind::unknown && !port.optional)
      return "it has a port that carries neither audio, control values nor events";
  for (const std::string& feature : plugin.required_features)
    if (!meets_feature(feature, block_frames))
      return fmt::format("it requires {}, which is not provided", feature);
  return "";
}

}  // namespace wavicon::path_detail
#endif
